"""One part for many instruments: the same sound in each player's own key, clef and octave.

Note ids stay those of the source, so that what a teacher pins to a note of the passage holds in every arrangement of it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from lxml import etree

from didactor.core.errors import PassageError
from didactor.core.instruments import Instrument
from didactor.core.score.clefs import clef_element
from didactor.core.score.read.accidentals import print_accidentals
from didactor.core.score.read.musicxml import parse
from didactor.core.score.spelling import Interval, interval_for, moved, place, spelled
from didactor.core.words import worded

#: Octaves tried up and down.
OCTAVES = range(-3, 4)
#: What belongs to the source's instrument and not to the music.
_OF_THE_INSTRUMENT = ("technical/fingering", "technical/string", "technical/fret", "technical/open-string", "technical/fingernails")


@dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """A passage moved by ``octaves`` against a player's range: sounding MIDI numbers, and how many notes lie outside."""

    octaves: int
    low: int
    high: int
    outside: int
    notes: int

    @property
    def fits(self) -> bool:
        return self.outside == 0


def fits(pitches: Sequence[int], within: tuple[int, int], octaves: Sequence[int] = OCTAVES) -> list[Fit]:
    """All octaves in which some of the passage can be played, the best first: fewest notes outside, then as written, then central.

    Args:
        pitches: sounding MIDI numbers of the passage as written.
        within: lowest and highest sounding number of the player's range.
    """
    if not pitches:
        return []
    centre = sum(within) / 2
    found = []
    for octave in octaves:
        own = [p + 12 * octave for p in pitches]
        outside = sum(not within[0] <= p <= within[1] for p in own)
        if outside < len(own):
            found.append(Fit(octaves=octave, low=min(own), high=max(own), outside=outside, notes=len(own)))
    return sorted(found, key=lambda f: (f.outside, f.octaves != 0, abs((f.low + f.high) / 2 - centre)))


def arrange(prepared: bytes, part: int, instrument: Instrument, octaves: int = 0) -> bytes:
    """One part of prepared MusicXML, written for another instrument; prepared again, ids kept.

    Args:
        part: which part, counting from 1.
        octaves: moved up by so many, as it sounds.

    Raises:
        PassageError: no such part.
    """
    root = parse(prepared)
    parts = root.findall("part")
    if not 1 <= part <= len(parts):
        raise PassageError("passage.no_such_part", worded("There is no part {part} in this score.", part=part))
    keep = parts[part - 1]
    for other in parts:
        if other is not keep:
            root.remove(other)
    _rename(root, keep, instrument)
    if instrument.staves == 1:
        _upper_line(keep, chords=instrument.many_voices)
    if instrument.pitched:
        _transpose(keep, instrument, octaves)
        print_accidentals(keep)
    else:
        _as_strokes(keep, instrument)
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8")


def _rename(root: etree._Element, keep: etree._Element, instrument: Instrument) -> None:
    listing = root.find("part-list")
    if listing is None:
        return
    for entry in list(listing):
        if entry.tag != "score-part" or entry.get("id") != keep.get("id"):
            listing.remove(entry)
            continue
        for child in list(entry):
            entry.remove(child)
        etree.SubElement(entry, "part-name").text = instrument.title
        player = etree.SubElement(entry, "score-instrument", id=f"{entry.get('id')}-I1")
        etree.SubElement(player, "instrument-name").text = instrument.title


def _upper_line(part: etree._Element, chords: bool) -> None:
    """The upper staff's first voice alone; of a chord only the highest note, for instruments of one voice."""
    several = any(int(s.text or 1) > 1 for s in part.iter("staves"))
    for measure in part.findall("measure"):
        voice = next((n.findtext("voice", "1") for n in measure.findall("note") if n.findtext("staff", "1") == "1"), "1")
        many = len({n.findtext("voice", "1") for n in measure.findall("note")}) > 1
        if several or (many and not chords):
            _keep_voice(measure, voice)
        if not chords:
            _highest_of_chords(measure)
        for tag in ("staves", "staff"):
            for element in list(measure.iter(tag)):
                parent = element.getparent()
                if parent is not None:
                    parent.remove(element)


def _keep_voice(measure: etree._Element, voice: str) -> None:
    """One voice, with rests where it pauses for another."""
    at, longest = 0, 0
    for element in list(measure):
        duration = int(float(element.findtext("duration", "0") or 0))
        if element.tag == "note":
            own = element.findtext("voice", "1") == voice
            if own and element.find("chord") is None and element.find("grace") is None:
                if at > longest:
                    _fill(measure, element, at - longest)
                longest = at + duration
            if not own:
                measure.remove(element)
            if element.find("chord") is None and element.find("grace") is None:
                at += duration
        elif element.tag in ("backup", "forward"):
            at += duration if element.tag == "forward" else -duration
            measure.remove(element)
        elif element.tag == "direction" and element.findtext("staff", "1") != "1":
            measure.remove(element)


def _fill(measure: etree._Element, before: etree._Element, duration: int) -> None:
    forward = etree.Element("forward")
    etree.SubElement(forward, "duration").text = str(duration)
    measure.insert(measure.index(before), forward)


def _highest_of_chords(measure: etree._Element) -> None:
    groups: list[list[etree._Element]] = []
    for note in measure.findall("note"):
        if note.find("chord") is not None and groups:
            groups[-1].append(note)
        else:
            groups.append([note])
    for group in groups:
        if len(group) == 1 or any(n.find("pitch") is None for n in group):
            continue
        top = max(group, key=_height)
        for note in group:
            if note is top:
                mark = note.find("chord")
                if mark is not None:
                    note.remove(mark)
            else:
                measure.remove(note)


def _height(note: etree._Element) -> tuple[int, int]:
    return int(note.findtext("pitch/octave", "4")), "CDEFGAB".index(note.findtext("pitch/step", "C"))


def _as_strokes(part: etree._Element, instrument: Instrument) -> None:
    """The rhythm alone, for who strikes what has no pitch."""
    for number, attributes in enumerate(part.iter("attributes")):
        for tag in ("key", "clef", "transpose"):
            for element in attributes.findall(tag):
                attributes.remove(element)
        if number == 0:
            at = next((i for i, c in enumerate(attributes) if c.tag in ("staff-details", "directive", "measure-style")), len(attributes))
            attributes.insert(at, clef_element(instrument.clef))
    for note in part.iter("note"):
        pitch = note.find("pitch")
        if pitch is None:
            continue
        stroke = etree.Element("unpitched")
        etree.SubElement(stroke, "display-step").text = "B"
        etree.SubElement(stroke, "display-octave").text = "4"
        note.replace(pitch, stroke)
        for path in ("accidental", "stem", "notations/slur", *(f"notations/{mark}" for mark in _OF_THE_INSTRUMENT)):
            for element in note.findall(path):
                parent = element.getparent()
                if parent is not None:
                    parent.remove(element)


def _transpose(part: etree._Element, instrument: Instrument, octaves: int) -> None:
    interval, source, clefs_set = Interval(semitones=0, fifths=0), 0, False
    attributes = list(part.iter("attributes"))
    if not attributes:
        first = part.find("measure")
        if first is None:
            return
        attributes = [etree.Element("attributes")]
        first.insert(0, attributes[0])
    for element in part.iter("attributes", "note", "harmony"):
        if element.tag == "attributes":
            change = element.find("transpose")
            if change is not None:
                source = int(float(change.findtext("chromatic", "0") or 0)) + 12 * int(float(change.findtext("octave-change", "0") or 0))
            key = element.find("key")
            if key is not None or not clefs_set:
                fifths = int(element.findtext("key/fifths", "0") or 0)
                interval = interval_for(source + 12 * octaves - instrument.transposition, fifths)
                _set_key(element, key, fifths + interval.fifths)
            _set_clef_and_transposition(element, instrument, first=not clefs_set)
            clefs_set = True
        elif element.tag == "note":
            _move_note(element, interval, instrument)
        else:
            _move_symbol(element, interval)


def _set_key(attributes: etree._Element, key: etree._Element | None, fifths: int) -> None:
    if key is None:
        key = etree.Element("key")
        at = 1 if attributes.find("divisions") is not None else 0
        attributes.insert(at, key)
    for cancel in key.findall("cancel"):
        key.remove(cancel)
    found = key.find("fifths")
    if found is None:
        found = etree.Element("fifths")
        key.insert(0, found)
    found.text = str(fifths)


def _set_clef_and_transposition(attributes: etree._Element, instrument: Instrument, first: bool) -> None:
    if instrument.staves == 1 or first:
        for clef in attributes.findall("clef"):
            if instrument.staves == 1 or attributes.findtext("staves") is None:
                attributes.remove(clef)
    for old in attributes.findall("transpose"):
        attributes.remove(old)
    if not first:
        return
    if attributes.find("clef") is None:
        at = next((i for i, c in enumerate(attributes) if c.tag in ("staff-details", "directive", "measure-style")), len(attributes))
        attributes.insert(at, clef_element(instrument.clef))
    if instrument.transposition:
        attributes.append(transpose_element(instrument.transposition))


def transpose_element(transposition: int) -> etree._Element:
    """MusicXML's ``<transpose>``: a part of an octave, with its diatonic steps, and whole octaves."""
    octaves = -(-transposition // 12) if transposition < 0 else transposition // 12
    rest = transposition - 12 * octaves
    element = etree.Element("transpose")
    etree.SubElement(element, "diatonic").text = str(interval_for(rest, 0).steps if rest else 0)
    etree.SubElement(element, "chromatic").text = str(rest)
    if octaves:
        etree.SubElement(element, "octave-change").text = str(octaves)
    return element


def _move_note(note: etree._Element, interval: Interval, instrument: Instrument) -> None:
    for stem in note.findall("stem"):
        note.remove(stem)
    for path in _OF_THE_INSTRUMENT:
        for mark in note.findall(f"notations/{path}"):
            parent = mark.getparent()
            if parent is not None:
                parent.remove(mark)
    pitch = note.find("pitch")
    if pitch is None or not instrument.pitched:
        return
    step, octave = pitch.findtext("step", "C").strip().upper(), int(pitch.findtext("octave", "4"))
    alter = round(float(pitch.findtext("alter", "0") or 0))
    step, alter, octave = moved(step, alter, octave, interval)
    for child in list(pitch):
        pitch.remove(child)
    etree.SubElement(pitch, "step").text = step
    if alter:
        etree.SubElement(pitch, "alter").text = str(alter)
    etree.SubElement(pitch, "octave").text = str(octave)


def _move_symbol(harmony: etree._Element, interval: Interval) -> None:
    for name in ("root", "bass"):
        found = harmony.find(name)
        if found is None or found.findtext(f"{name}-step") is None:
            continue
        alter = round(float(found.findtext(f"{name}-alter", "0") or 0))
        step, alter = spelled(place(found.findtext(f"{name}-step", "C").strip().upper(), alter) + interval.fifths)
        for child in list(found):
            found.remove(child)
        etree.SubElement(found, f"{name}-step").text = step
        if alter:
            etree.SubElement(found, f"{name}-alter").text = str(alter)
