"""Notation being put together by a reader of another format, and its MusicXML.

A ``DraftNote`` may have any length; writing splits it into noteheads that exist and ties them.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from functools import lru_cache
from math import lcm

from lxml import etree

from didactor.core.score.chords import write_harmony
from didactor.core.score.clefs import clef_element
from didactor.core.score.read.accidentals import print_accidentals

#: MusicXML's note types by length in quarters, the longest first.
_TYPES = [
    (Fraction(2) ** e, name)
    for e, name in zip(
        range(4, -7, -1), ("long", "breve", "whole", "half", "quarter", "eighth", "16th", "32nd", "64th", "128th", "256th"), strict=True
    )
]
_ALTERS = {"": 0, "#": 1, "b": -1, "##": 2, "bb": -2}
_ARTICULATIONS = ("staccato", "tenuto", "accent", "strong-accent", "staccatissimo", "breath-mark", "caesura")
_ORNAMENTS = ("trill-mark", "mordent", "inverted-mordent", "turn", "inverted-turn")
_TECHNICAL = ("up-bow", "down-bow", "open-string", "thumb-position", "snap-pizzicato", "stopped")


@dataclass(kw_only=True)
class Pitch:
    step: str
    alter: int
    octave: int
    tie_start: bool = False
    tie_stop: bool = False


@dataclass(kw_only=True)
class DraftNote:
    """A chord, a note, a stroke (``stroke``) or a rest (no pitches). ``nominal`` is the written length in quarters; within a tuplet of
    ``actual`` in the time of ``normal`` it sounds shorter.
    """

    nominal: Fraction
    pitches: list[Pitch] = field(default_factory=list)
    stroke: bool = False
    grace: bool = False
    slash: bool = False
    hidden: bool = False
    actual: int = 1
    normal: int = 1
    tuplet: str = ""
    slur_starts: int = 0
    slur_stops: int = 0
    marks: list[str] = field(default_factory=list)
    dynamics: str = ""
    words: str = ""
    harmony: str = ""
    fingering: str = ""
    lyrics: list[tuple[int, str, str]] = field(default_factory=list)

    @property
    def sounding(self) -> Fraction:
        return Fraction(0) if self.grace else self.nominal * self.normal / self.actual


@dataclass(kw_only=True)
class DraftBar:
    """Notes of one bar, with what changes at its beginning and the kind of its bar lines."""

    notes: list[DraftNote] = field(default_factory=list)
    fifths: int | None = None
    metre: tuple[int, int, str] | None = None
    clef: str | None = None
    tempo_qpm: float | None = None
    repeat_start: bool = False
    repeat_end: int = 0
    ending_start: str = ""
    ending_stop: str = ""
    style: str = ""
    jump: str = ""
    marks: list[str] = field(default_factory=list)
    rehearsal: str = ""

    @property
    def length(self) -> Fraction:
        return sum((n.sounding for n in self.notes), Fraction(0))


@dataclass(kw_only=True)
class DraftPart:
    name: str
    bars: list[DraftBar]
    clef: str = "treble"
    transposition: int = 0


def without_control_signs(text: str) -> str:
    """Text without the signs that XML cannot hold, whatever a damaged file has in it."""
    return re.sub(r"[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]", "", text)


@lru_cache(maxsize=4096)
def pieces_of(nominal: Fraction) -> tuple[tuple[Fraction, str, int], ...]:
    """A length as (quarters, type, dots), to be tied; what no notehead can make (finer than a 256th) is left off."""
    found = []
    while nominal > 0:
        piece = next(((v, n) for v, n in _TYPES if v <= nominal), None)
        if piece is None:
            break
        value, name = piece
        dots, total = 0, value
        while dots < 3 and total + value / 2 ** (dots + 1) <= nominal and value / 2 ** (dots + 1) >= _TYPES[-1][0]:
            dots += 1
            total += value / 2**dots
        found.append((total, name, dots))
        nominal -= total
    return tuple(found)


def write_draft(parts: Sequence[DraftPart], title: str = "", composer: str = "") -> bytes:
    """Drafts to partwise MusicXML 4.0."""
    root = etree.Element("score-partwise", version="4.0")
    etree.SubElement(etree.SubElement(root, "work"), "work-title").text = title
    if composer:
        etree.SubElement(etree.SubElement(root, "identification"), "creator", type="composer").text = composer
    listing = etree.SubElement(root, "part-list")
    for number, part in enumerate(parts, start=1):
        entry = etree.SubElement(listing, "score-part", id=f"P{number}")
        etree.SubElement(entry, "part-name").text = part.name
    for number, part in enumerate(parts, start=1):
        element = etree.SubElement(root, "part", id=f"P{number}")
        _write_part(element, part)
        print_accidentals(element)
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8")


def _divisions(part: DraftPart) -> int:
    result = 1
    for bar in part.bars:
        for note in bar.notes:
            for total, _, _ in pieces_of(note.nominal):
                result = lcm(result, _in_tuplet(total, note.normal, note.actual).denominator)
    return min(result, 16_384)


@lru_cache(maxsize=4096)
def _in_tuplet(length: Fraction, normal: int, actual: int) -> Fraction:
    return length * normal / actual


def _write_part(element: etree._Element, part: DraftPart) -> None:
    divisions = _divisions(part)
    metre: tuple[int, int, str] | None = None
    number = 0
    for index, bar in enumerate(part.bars):
        metre = bar.metre or metre
        full = Fraction(4 * metre[0], metre[1]) if metre else bar.length
        short = bar.length < full
        number += 0 if index == 0 and short and len(part.bars) > 1 else 1
        measure = etree.SubElement(element, "measure", number=str(number))
        # A bar cut short by a repeat or an upbeat is as long as what is in it.
        if short and bar.length:
            measure.set("implicit", "yes")
        _write_left(measure, bar)
        _write_attributes(measure, bar, part, divisions, first=index == 0)
        for place, note in _with_beams(bar.notes, metre):
            _write_note(measure, note, divisions, place)
        _write_right(measure, bar)


def _write_left(measure: etree._Element, bar: DraftBar) -> None:
    if bar.repeat_start or bar.ending_start:
        line = etree.SubElement(measure, "barline", location="left")
        if bar.repeat_start:
            etree.SubElement(line, "bar-style").text = "heavy-light"
        if bar.ending_start:
            etree.SubElement(line, "ending", number=bar.ending_start, type="start")
        if bar.repeat_start:
            etree.SubElement(line, "repeat", direction="forward")


#: What stands at the end of a bar for the road: its name, its words, its value for programs.
_AT_THE_END = (
    ("fine", "Fine", "yes"),
    ("tocoda", "To Coda", "coda"),
    ("dacapo", "D.C.", "yes"),
    ("dalsegno", "D.S.", "segno"),
)


def _write_right(measure: etree._Element, bar: DraftBar) -> None:
    for name, text, value in _AT_THE_END:
        if name == bar.jump or name in bar.marks:
            direction = etree.SubElement(measure, "direction", placement="above")
            etree.SubElement(etree.SubElement(direction, "direction-type"), "words").text = text
            etree.SubElement(direction, "sound", {name: value})
    if bar.repeat_end or bar.ending_stop or bar.style:
        line = etree.SubElement(measure, "barline", location="right")
        etree.SubElement(line, "bar-style").text = "light-heavy" if bar.repeat_end else bar.style or "regular"
        if bar.ending_stop:
            etree.SubElement(line, "ending", number=bar.ending_stop, type="stop" if bar.repeat_end else "discontinue")
        if bar.repeat_end:
            repeat = etree.SubElement(line, "repeat", direction="backward")
            if bar.repeat_end > 2:
                repeat.set("times", str(bar.repeat_end))


def _write_attributes(measure: etree._Element, bar: DraftBar, part: DraftPart, divisions: int, *, first: bool) -> None:
    attributes = etree.Element("attributes")
    if first:
        etree.SubElement(attributes, "divisions").text = str(divisions)
    if bar.fifths is not None or first:
        etree.SubElement(etree.SubElement(attributes, "key"), "fifths").text = str(bar.fifths or 0)
    if bar.metre is not None:
        time = etree.SubElement(attributes, "time")
        if bar.metre[2]:
            time.set("symbol", bar.metre[2])
        etree.SubElement(time, "beats").text = str(bar.metre[0])
        etree.SubElement(time, "beat-type").text = str(bar.metre[1])
    elif first:
        time = etree.SubElement(attributes, "time")
        etree.SubElement(time, "senza-misura")
    if first or bar.clef:
        attributes.append(clef_element(bar.clef or part.clef))
    if first and part.transposition:
        transpose = etree.SubElement(attributes, "transpose")
        etree.SubElement(transpose, "chromatic").text = str(part.transposition)
    if len(attributes):
        measure.append(attributes)
    if bar.rehearsal:
        direction = etree.SubElement(measure, "direction", placement="above")
        etree.SubElement(etree.SubElement(direction, "direction-type"), "rehearsal").text = bar.rehearsal
    for mark in bar.marks:
        if mark in ("segno", "coda"):
            direction = etree.SubElement(measure, "direction", placement="above")
            etree.SubElement(etree.SubElement(direction, "direction-type"), mark)
            etree.SubElement(direction, "sound", {mark: mark})
    if bar.tempo_qpm:
        direction = etree.SubElement(measure, "direction", placement="above")
        metronome = etree.SubElement(etree.SubElement(direction, "direction-type"), "metronome")
        etree.SubElement(metronome, "beat-unit").text = "quarter"
        etree.SubElement(metronome, "per-minute").text = f"{bar.tempo_qpm:g}"
        etree.SubElement(direction, "sound", tempo=f"{bar.tempo_qpm:g}")


def _with_beams(notes: Sequence[DraftNote], metre: tuple[int, int, str] | None) -> Iterable[tuple[str, DraftNote]]:
    """Each note with ``begin``, ``continue``, ``end`` or nothing: flagged notes within one beat share a beam."""
    beat = Fraction(1)
    if metre:
        beat = Fraction(3, 2) if metre[1] == 8 and metre[0] % 3 == 0 else Fraction(4, metre[1])
    groups: list[list[int]] = []
    at = Fraction(0)
    last_beat: int | None = None
    for index, note in enumerate(notes):
        flagged = bool(note.pitches or note.stroke) and note.nominal < 1 and not note.grace
        here = int(at // beat)
        if flagged and groups and groups[-1] and last_beat == here:
            groups[-1].append(index)
        elif not note.grace:
            groups.append([index] if flagged else [])
        last_beat = here if flagged else None if not note.grace else last_beat
        at += note.sounding
    beams = [""] * len(notes)
    for group in groups:
        if len(group) > 1:
            for index in group:
                beams[index] = "continue"
            beams[group[0]], beams[group[-1]] = "begin", "end"
    return zip(beams, notes, strict=True)


def _write_note(measure: etree._Element, note: DraftNote, divisions: int, beam: str) -> None:
    _write_before(measure, note)
    pieces = pieces_of(note.nominal) or ((Fraction(1, 64), "256th", 0),)
    for number, (total, name, dots) in enumerate(pieces):
        first, last = number == 0, number == len(pieces) - 1
        for voice, pitch in enumerate(note.pitches or [None]):
            element = etree.SubElement(measure, "note", {"print-object": "no"} if note.hidden else {})
            if note.grace:
                etree.SubElement(element, "grace")
            if voice:
                etree.SubElement(element, "chord")
            starts, stops = _write_pitch(element, note, pitch, first=first, last=last)
            if not note.grace:
                length = _in_tuplet(total, note.normal, note.actual) * divisions
                etree.SubElement(element, "duration").text = str(round(length))
            for kind, on in (("stop", stops), ("start", starts)):
                if on:
                    etree.SubElement(element, "tie", type=kind)
            etree.SubElement(element, "voice").text = "1"
            etree.SubElement(element, "type").text = name
            for _ in range(dots):
                etree.SubElement(element, "dot")
            if note.actual != note.normal:
                change = etree.SubElement(element, "time-modification")
                etree.SubElement(change, "actual-notes").text = str(note.actual)
                etree.SubElement(change, "normal-notes").text = str(note.normal)
            if note.slash:
                etree.SubElement(element, "notehead").text = "slash"
            if beam and voice == 0 and len(pieces) == 1:
                etree.SubElement(element, "beam", number="1").text = beam
            _write_notations(element, note, starts, stops, first=first and voice == 0, last=last and voice == 0)
            if first and voice == 0:
                _write_lyrics(element, note)


def _write_before(measure: etree._Element, note: DraftNote) -> None:
    if note.harmony:
        write_harmony(measure, note.harmony)
    for tag, value in (("dynamics", note.dynamics), ("words", note.words)):
        if value:
            direction = etree.SubElement(measure, "direction", placement="below" if tag == "dynamics" else "above")
            kind = etree.SubElement(direction, "direction-type")
            if tag == "dynamics":
                etree.SubElement(etree.SubElement(kind, "dynamics"), value)
            else:
                etree.SubElement(kind, "words").text = value


def _write_pitch(element: etree._Element, note: DraftNote, pitch: Pitch | None, *, first: bool, last: bool) -> tuple[bool, bool]:
    """The pitch, stroke or rest; returns whether a tie starts and stops here."""
    if pitch is None and note.stroke:
        unpitched = etree.SubElement(element, "unpitched")
        etree.SubElement(unpitched, "display-step").text = "B"
        etree.SubElement(unpitched, "display-octave").text = "4"
        return not last, not first
    if pitch is None:
        etree.SubElement(element, "rest")
        return False, False
    written = etree.SubElement(element, "pitch")
    etree.SubElement(written, "step").text = pitch.step
    if pitch.alter:
        etree.SubElement(written, "alter").text = str(pitch.alter)
    etree.SubElement(written, "octave").text = str(pitch.octave)
    return pitch.tie_start or not last, pitch.tie_stop or not first


def _write_notations(element: etree._Element, note: DraftNote, starts: bool, stops: bool, *, first: bool, last: bool) -> None:
    notations = etree.Element("notations")
    for kind, on in (("stop", stops), ("start", starts)):
        if on:
            etree.SubElement(notations, "tied", type=kind)
    if first:
        for number in range(note.slur_stops):
            etree.SubElement(notations, "slur", type="stop", number=str(number + 1))
    if last:
        for number in range(note.slur_starts):
            etree.SubElement(notations, "slur", type="start", number=str(number + 1))
    if (first and note.tuplet == "start") or (last and note.tuplet == "stop"):
        etree.SubElement(notations, "tuplet", type=note.tuplet)
    if first:
        for group, names in (("ornaments", _ORNAMENTS), ("technical", _TECHNICAL), ("articulations", _ARTICULATIONS)):
            own = [m for m in note.marks if m in names]
            if own or (group == "technical" and note.fingering):
                parent = etree.SubElement(notations, group)
                for mark in own:
                    etree.SubElement(parent, mark)
                if group == "technical" and note.fingering:
                    etree.SubElement(parent, "fingering").text = note.fingering
        if "fermata" in note.marks:
            etree.SubElement(notations, "fermata")
    if len(notations):
        element.append(notations)


def _write_lyrics(element: etree._Element, note: DraftNote) -> None:
    for verse, text, syllabic in note.lyrics:
        lyric = etree.SubElement(element, "lyric", number=str(verse))
        etree.SubElement(lyric, "syllabic").text = syllabic
        etree.SubElement(lyric, "text").text = text
