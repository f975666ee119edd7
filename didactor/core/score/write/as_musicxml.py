"""Music of our own as MusicXML: the demo's melodies, the tests' tiny scores and the benchmark's generated lines.

A line is text, one token a note: ``PITCH:VALUE`` (``Eb5:q``), ``C4+E4+G4:q`` for a chord, ``x:q`` for a stroke without pitch,
``r:VALUE`` for a rest, ``|`` for a barline, ``|:`` and ``:|`` for repeats. Values are ``w h q e s t`` (whole to thirty-second), a
dot lengthens, ``3`` makes it a triplet's. After the value: ``~`` tie to the next, ``(`` and ``)`` slur, ``'`` staccato, ``>`` accent,
``!p`` a dynamic mark in force from here, ``!<`` and ``!>`` the beginning of a hairpin and ``!.`` its end, ``@Am`` a chord symbol, ``%la-``
a syllable below (with a hyphen where the word goes on). A
first bar shorter than the metre is the anacrusis, number 0.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from lxml import etree

from didactor.core.score.chords import write_harmony
from didactor.core.score.clefs import clef_element
from didactor.core.score.read.accidentals import print_accidentals

VALUES = {"w": Fraction(4), "h": Fraction(2), "q": Fraction(1), "e": Fraction(1, 2), "s": Fraction(1, 4), "t": Fraction(1, 8)}
TYPES = {"w": "whole", "h": "half", "q": "quarter", "e": "eighth", "s": "16th", "t": "32nd"}
DIVISIONS = 24
_PITCH = r"[A-G](?:bb|b|##|#)?\d"
TOKEN = re.compile(
    rf"^(r|x|{_PITCH}(?:\+{_PITCH})*):([whqest])(\.?)(3?)(~?)([()]{{0,2}})('?)(>?)(?:!(\w*)([<>.]?))?(?:@([^\s%]+))?(?:%(\S+))?$"
)
ALTERS = {"": 0, "b": -1, "#": 1, "bb": -2, "##": 2}


@dataclass(frozen=True, kw_only=True)
class Line:
    """One part to write. ``transposition`` is sounding minus written, in semitones; ``tempo`` in quarters per minute.

    ``lower`` is a second staff in bass clef, with as many bars as ``text``. ``slashes``: strokes are slashes, as in chord charts.
    """

    text: str
    lower: str = ""
    name: str = "Flute"
    clef: str = "treble"
    fifths: int = 0
    beats: int = 4
    beat_type: int = 4
    transposition: int = 0
    tempo: float | None = None
    slashes: bool = False


def write_musicxml(lines: Sequence[Line], title: str = "", composer: str = "") -> bytes:
    """Lines of text to partwise MusicXML 4.0. Raises ``ValueError`` for a token that is not understood."""
    root = etree.Element("score-partwise", version="4.0")
    etree.SubElement(etree.SubElement(root, "work"), "work-title").text = title
    if composer:
        creator = etree.SubElement(etree.SubElement(root, "identification"), "creator", type="composer")
        creator.text = composer
    listing = etree.SubElement(root, "part-list")
    for number, line in enumerate(lines, start=1):
        entry = etree.SubElement(listing, "score-part", id=f"P{number}")
        etree.SubElement(entry, "part-name").text = line.name
        instrument = etree.SubElement(entry, "score-instrument", id=f"P{number}-I1")
        etree.SubElement(instrument, "instrument-name").text = line.name
    for number, line in enumerate(lines, start=1):
        part = etree.SubElement(root, "part", id=f"P{number}")
        _write_part(part, line)
        print_accidentals(part)
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True)


def _bars(text: str) -> list[list[str]]:
    return [bar.split() for bar in re.split(r"\|(?!:)", text.replace(":|", " :end |").replace("|:", " | :start ")) if bar.strip()]


def _write_part(part: etree._Element, line: Line) -> None:
    bars, lower = _bars(line.text), _bars(line.lower)
    if lower and len(lower) != len(bars):
        raise ValueError("the lower staff needs as many bars as the upper")
    full = Fraction(4 * line.beats, line.beat_type)
    first = sum((_length(token) for token in bars[0] if not token.startswith(":")), Fraction(0))
    number = 0 if first < full and len(bars) > 1 else 1
    tied: tuple[set[str], set[str]] = (set(), set())
    for index, tokens in enumerate(bars):
        measure = etree.SubElement(part, "measure", number=str(number))
        if index == 0 and number == 0:
            measure.set("implicit", "yes")
        number += 1
        if ":start" in tokens:
            barline = etree.SubElement(measure, "barline", location="left")
            etree.SubElement(barline, "repeat", direction="forward")
        if index == 0:
            _write_attributes(measure, line)
        upper = [t for t in tokens if not t.startswith(":")]
        _write_notes(measure, upper, line, tied[0], 1 if lower else 0)
        if lower:
            backup = etree.SubElement(measure, "backup")
            etree.SubElement(backup, "duration").text = str(int(sum((_length(t) for t in upper), Fraction(0)) * DIVISIONS))
            _write_notes(measure, lower[index], line, tied[1], 2)
        if ":end" in tokens or index == len(bars) - 1:
            barline = etree.SubElement(measure, "barline", location="right")
            etree.SubElement(barline, "bar-style").text = "light-heavy"
            if ":end" in tokens:
                etree.SubElement(barline, "repeat", direction="backward")


def _write_attributes(measure: etree._Element, line: Line) -> None:
    attributes = etree.SubElement(measure, "attributes")
    etree.SubElement(attributes, "divisions").text = str(DIVISIONS)
    etree.SubElement(etree.SubElement(attributes, "key"), "fifths").text = str(line.fifths)
    time = etree.SubElement(attributes, "time")
    etree.SubElement(time, "beats").text = str(line.beats)
    etree.SubElement(time, "beat-type").text = str(line.beat_type)
    if line.lower:
        etree.SubElement(attributes, "staves").text = "2"
    for staff, name in enumerate((line.clef, "bass") if line.lower else (line.clef,), start=1):
        clef = clef_element(name)
        if line.lower:
            clef.set("number", str(staff))
        attributes.append(clef)
    if line.transposition:
        transpose = etree.SubElement(attributes, "transpose")
        etree.SubElement(transpose, "chromatic").text = str(line.transposition)
    if line.tempo:
        direction = etree.SubElement(measure, "direction", placement="above")
        metronome = etree.SubElement(etree.SubElement(direction, "direction-type"), "metronome")
        etree.SubElement(metronome, "beat-unit").text = "quarter"
        etree.SubElement(metronome, "per-minute").text = f"{line.tempo:g}"
        etree.SubElement(direction, "sound", tempo=f"{line.tempo:g}")


def _parse(token: str) -> re.Match[str]:
    match = TOKEN.match(token)
    if match is None:
        raise ValueError(f"not a note: {token!r}")
    return match


def _length(token: str) -> Fraction:
    match = _parse(token)
    length = VALUES[match[2]]
    if match[3]:
        length *= Fraction(3, 2)
    if match[4]:
        length *= Fraction(2, 3)
    return length


def _write_notes(measure: etree._Element, tokens: list[str], line: Line, tied: set[str], staff: int) -> None:
    """One staff's bar; ``staff`` 0 where there is only one."""
    beat = Fraction(3, 2) if line.beat_type == 8 and line.beats % 3 == 0 else Fraction(4, line.beat_type)
    onset = Fraction(0)
    placed = []
    for token in tokens:
        placed.append((onset, token))
        onset += _length(token)
    beams = _beams(placed, beat)
    tuplets = _tuplets(tokens)
    syllable_before = ""
    for index, (_, token) in enumerate(placed):
        match = _parse(token)
        _write_marks(measure, match, staff)
        for number, name in enumerate(match[1].split("+")):
            note = etree.SubElement(measure, "note")
            notations = etree.Element("notations")
            if number:
                etree.SubElement(note, "chord")
            _write_pitch(note, name)
            etree.SubElement(note, "duration").text = str(int(_length(token) * DIVISIONS))
            if name in tied:
                tied.discard(name)
                etree.SubElement(note, "tie", type="stop")
                etree.SubElement(notations, "tied", type="stop")
            if match[5]:
                tied.add(name)
                etree.SubElement(note, "tie", type="start")
                etree.SubElement(notations, "tied", type="start")
            etree.SubElement(note, "voice").text = "5" if staff == 2 else "1"
            etree.SubElement(note, "type").text = TYPES[match[2]]
            if match[3]:
                etree.SubElement(note, "dot")
            if match[4]:
                modification = etree.SubElement(note, "time-modification")
                etree.SubElement(modification, "actual-notes").text = "3"
                etree.SubElement(modification, "normal-notes").text = "2"
            if line.slashes and name == "x":
                etree.SubElement(note, "notehead").text = "slash"
            if staff:
                etree.SubElement(note, "staff").text = str(staff)
            if beams[index] and number == 0:
                etree.SubElement(note, "beam", number="1").text = beams[index]
            if number == 0:
                _write_notations(note, notations, match, tuplets[index])
            elif len(notations):
                note.append(notations)
            if match[12] and number == 0:
                _write_syllable(note, match[12], syllable_before)
                syllable_before = match[12]


def _write_syllable(note: etree._Element, text: str, before: str) -> None:
    """A syllable under a note; its word goes on where it ends with a hyphen, and went on where the one ``before`` does."""
    lyric = etree.SubElement(note, "lyric", number="1")
    begins, goes_on = not before.endswith("-"), text.endswith("-")
    etree.SubElement(lyric, "syllabic").text = {(True, False): "single", (True, True): "begin", (False, True): "middle"}.get(
        (begins, goes_on), "end"
    )
    etree.SubElement(lyric, "text").text = text.rstrip("-").replace("_", " ")


def _write_marks(measure: etree._Element, match: re.Match[str], staff: int) -> None:
    """Dynamics, hairpins and chord symbols, which stand before their note."""
    if match[11]:
        write_harmony(measure, match[11])
    wedge = {"<": "crescendo", ">": "diminuendo", ".": "stop"}.get(match[10] or "")
    # A hairpin ends before the dynamic it leads to.
    for tag, value in (("wedge", wedge), ("dynamics", match[9])) if wedge == "stop" else (("dynamics", match[9]), ("wedge", wedge)):
        if value:
            direction = etree.SubElement(measure, "direction", placement="below")
            kind_of = etree.SubElement(direction, "direction-type")
            if tag == "dynamics":
                etree.SubElement(etree.SubElement(kind_of, "dynamics"), value)
            else:
                etree.SubElement(kind_of, "wedge", type=value, number="1")
            if staff:
                etree.SubElement(direction, "staff").text = str(staff)


def _write_pitch(note: etree._Element, name: str) -> None:
    if name == "r":
        etree.SubElement(note, "rest")
    elif name == "x":
        unpitched = etree.SubElement(note, "unpitched")
        etree.SubElement(unpitched, "display-step").text = "B"
        etree.SubElement(unpitched, "display-octave").text = "4"
    else:
        pitch = etree.SubElement(note, "pitch")
        etree.SubElement(pitch, "step").text = name[0]
        if name[1:-1]:
            etree.SubElement(pitch, "alter").text = str(ALTERS[name[1:-1]])
        etree.SubElement(pitch, "octave").text = name[-1]


def _write_notations(note: etree._Element, notations: etree._Element, match: re.Match[str], tuplet: str) -> None:
    if tuplet:
        etree.SubElement(notations, "tuplet", type=tuplet)
    if ")" in match[6]:
        etree.SubElement(notations, "slur", type="stop", number="1")
    if "(" in match[6]:
        etree.SubElement(notations, "slur", type="start", number="1")
    if match[7] or match[8]:
        articulations = etree.SubElement(notations, "articulations")
        if match[7]:
            etree.SubElement(articulations, "staccato")
        if match[8]:
            etree.SubElement(articulations, "accent")
    if len(notations):
        note.append(notations)


def _tuplets(tokens: list[str]) -> list[str]:
    """``start``, ``stop`` or nothing for each token: a triplet closes where its lengths add up to plain ones again."""
    marks, inside = [""] * len(tokens), Fraction(0)
    for index, token in enumerate(tokens):
        if not _parse(token)[4]:
            continue
        if not inside:
            marks[index] = "start"
        inside += _length(token)
        if inside.denominator % 3:
            marks[index], inside = "stop", Fraction(0)
    return marks


def _beams(placed: list[tuple[Fraction, str]], beat: Fraction) -> list[str]:
    """``begin``, ``continue``, ``end`` or nothing for each token: flagged notes within one beat share a beam."""
    groups: list[list[int]] = []
    for index, (onset, token) in enumerate(placed):
        match = _parse(token)
        if match[1] == "r" or match[2] not in "est":
            groups.append([])
        elif groups and groups[-1] and placed[groups[-1][-1]][0] // beat == onset // beat:
            groups[-1].append(index)
        else:
            groups.append([index])
    beams = [""] * len(placed)
    for group in groups:
        if len(group) > 1:
            for index in group:
                beams[index] = "continue"
            beams[group[0]], beams[group[-1]] = "begin", "end"
    return beams
