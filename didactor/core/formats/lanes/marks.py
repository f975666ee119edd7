"""Marks on the staff: circles, dotted circles, ghost heads and extra heads."""

from __future__ import annotations

from typing import Any

from lxml import etree

from didactor.core.formats.lanes.parts import Places, element
from didactor.core.formats.result import ChordHeard, ExtraResult, Result
from didactor.core.hearing.hearing import Status
from didactor.core.words import worded

STEP = 90.0
_SPELLING = (("C", 0), ("C", 1), ("D", 0), ("E", -1), ("E", 0), ("F", 0), ("F", 1), ("G", 0), ("A", -1), ("A", 0), ("B", -1), ("B", 0))
_STEPS = {"C": 0, "D": 1, "E": 2, "F": 3, "G": 4, "A": 5, "B": 6}
_SIGNS = {-1: "♭", 1: "♯"}

#: How far a slash reaches above a single line.
HEAD_ABOVE_LINE = 190.0


def draw_marks(layer: etree._Element, index: int, geometry: dict[str, Any], result: Result, places: Places) -> None:
    """Circles, dotted circles, ghost heads and extra heads on the staff of one system."""
    for note in result.notes or ():
        place = geometry["notes"].get(note.id)
        if place is None or int(place["system"]) != index:
            continue
        x, y = float(place["x"]), float(place["y"])
        if note.status is Status.MISSED:
            element(layer, "circle", "mark missed", title=worded("Not played"), cx=x, cy=y, r=205.0, data_note=note.id)
        elif note.status is Status.UNCERTAIN and result.ear.note_by_note:
            reason = worded("Not judged: {reason}", reason=note.reason) if note.reason else worded("Not judged")
            element(layer, "circle", "mark uncertain", title=reason, cx=x, cy=y, r=205.0, data_note=note.id, tabindex="0")
        elif note.status is Status.WRONG_PITCH and note.heard_midi is not None:
            _ghost(layer, x, y, note.written_pitch, note.heard_midi - note.sounding_midi, note.id)
    _chords(layer, index, geometry, result, places)
    for extra in result.extra or ():
        _extra(layer, index, extra, geometry, result, places)


def _chords(layer: etree._Element, index: int, geometry: dict[str, Any], result: Result, places: Places) -> None:
    """Over strokes that sound another chord: its symbol, and a line as long as it is held."""
    runs: list[list[ChordHeard]] = []
    before = None
    for chord in result.chords or ():
        if chord.status is Status.WRONG_PITCH and chord.heard is not None:
            if before is not None and (before.status, before.heard) == (chord.status, chord.heard):
                runs[-1].append(chord)
            else:
                runs.append([chord])
        before = chord
    for run in runs:
        found = [place for c in run if (place := places.x(c.bar, c.beat)) is not None and place[1] == index]
        if not found:
            continue
        system = geometry["systems"][index]
        # Heads on a single line reach above it.
        above = 0.0 if system["staff_bottom"] > system["staff_top"] else HEAD_ABOVE_LINE
        x0, x1, y = found[0][0], found[-1][0], system["staff_top"] - above
        group = element(
            layer, "g", "mark chord", title=worded("{heard} is heard, {written} is written", heard=run[0].heard, written=run[0].written)
        )
        element(group, "text", "chord-heard", x=x0 + 400.0, y=y - 140.0).text = run[0].heard
        element(group, "line", "held", x1=x0 - 60.0, x2=x1 + 120.0, y1=y - 60.0, y2=y - 60.0)


def _ghost(layer: etree._Element, x: float, y: float, written: str, semitones: int, note_id: str) -> None:
    heard_y, sign = _heard_place(y, written, semitones)
    ghost_x = x + 300.0
    group = element(layer, "g", "mark wrong", title=worded("Heard at this pitch"), data_note=note_id)
    element(group, "line", "tie", x1=x + 60.0, y1=y, x2=ghost_x - 60.0, y2=heard_y)
    element(group, "ellipse", "ghost", cx=0.0, cy=0.0, rx=118.0, ry=78.0, transform=f"translate({ghost_x:g}, {heard_y:g}) rotate(-20)")
    if sign:
        text = element(group, "text", "sign", x=ghost_x + 130.0, y=heard_y + 100.0)
        text.text = sign


def _heard_place(y: float, written: str, semitones: int) -> tuple[float, str]:
    """Height on the staff of a heard pitch that lies some semitones from a written one, and its accidental if it needs one."""
    step, octave = written[0], int(written[-1])
    alter = {"bb": -2, "b": -1, "": 0, "#": 1, "##": 2}[written[1:-1]]
    base = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}[step] + alter + 12 * octave
    midi = base + semitones
    heard_step, heard_alter = _SPELLING[midi % 12]
    heard_octave = (midi - heard_alter) // 12
    lines = 7 * (heard_octave - octave) + _STEPS[heard_step] - _STEPS[step]
    return y - STEP * lines, _SIGNS.get(heard_alter, "")


def _extra(layer: etree._Element, index: int, extra: ExtraResult, geometry: dict[str, Any], result: Result, places: Places) -> None:
    found = places.x(extra.bar, extra.beat)
    if found is None or found[1] != index:
        return
    near = min(
        (n for n in result.notes or () if n.id in geometry["notes"] and n.onset_s is not None),
        key=lambda n: abs((n.onset_s or 0.0) - extra.onset_s),
        default=None,
    )
    if near is None:
        return
    # A stroke has no pitch: it stands on its neighbour's line.
    semitones = 0 if extra.midi is None else extra.midi - near.sounding_midi
    y, sign = _heard_place(float(geometry["notes"][near.id]["y"]), near.written_pitch, semitones)
    group = element(layer, "g", "mark extra", title=worded("An extra note is heard here"), data_time=extra.onset_s)
    element(group, "ellipse", "ghost", cx=0.0, cy=0.0, rx=92.0, ry=50.0, transform=f"translate({found[0]:g}, {y:g}) rotate(-45)")
    if sign:
        element(group, "text", "sign", x=found[0] + 100.0, y=y + 90.0).text = sign
