"""Accidentals as a page shows them: a sign where a note differs from the key signature or from the bar so far.

MusicXML keeps what sounds (``<alter>``) apart from what is printed (``<accidental>``); engravers draw the printed one. Wherever we
write or change pitches we print them anew, by the usual rules: a sign holds for its line or space to the end of the bar, a note tied
over from the bar before needs none, and is restated after it.
"""

from __future__ import annotations

from lxml import etree

from didactor.core.score.spelling import key_alters

_SIGNS = {-2: "flat-flat", -1: "flat", 0: "natural", 1: "sharp", 2: "double-sharp"}
#: Children of a note that stand before its accidental, by MusicXML's order.
_BEFORE = {
    "grace", "cue", "chord", "pitch", "unpitched", "rest", "duration", "tie", "instrument", "footnote", "level", "voice", "type", "dot",
}  # fmt: skip


def print_accidentals(part: etree._Element) -> None:
    """Replace every ``<accidental>`` of a part, in place."""
    fifths = 0
    for measure in part.findall("measure"):
        held: dict[tuple[str, str, str], int] = {}
        onset, last = 0.0, 0.0
        notes: list[tuple[float, int, etree._Element]] = []
        # A damaged file may step back to before its bar.
        changes: list[tuple[float, int]] = [(float("-inf"), fifths)]
        for element in measure:
            if element.tag == "attributes" and element.findtext("key/fifths"):
                fifths = int(element.findtext("key/fifths", "0"))
                changes.append((onset, fifths))
            elif element.tag in ("backup", "forward"):
                onset += float(element.findtext("duration", "0")) * (1 if element.tag == "forward" else -1)
            elif element.tag == "note":
                begin = last if element.find("chord") is not None else onset
                notes.append((begin, len(notes), element))
                if element.find("chord") is None:
                    last = onset
                    onset += float(element.findtext("duration", "0"))
        # By time, not by voice: a sign in one voice holds for the others on its staff.
        for begin, _, note in sorted(notes, key=lambda n: n[:2]):
            _print_one(note, key_alters([f for at, f in changes if at <= begin][-1]), held)


def _print_one(note: etree._Element, key: dict[str, int], held: dict[tuple[str, str, str], int]) -> None:
    for old in note.findall("accidental"):
        note.remove(old)
    pitch = note.find("pitch")
    if pitch is None:
        return
    step, octave = pitch.findtext("step", "C"), pitch.findtext("octave", "4")
    alter = round(float(pitch.findtext("alter", "0") or 0))
    line = (note.findtext("staff", "1"), step, octave)
    if any(tie.get("type") == "stop" for tie in note.findall("tie")):
        return
    in_force = held.get(line, key[step])
    held[line] = alter
    if alter == in_force or alter not in _SIGNS:
        return
    at = next((i for i, child in enumerate(note) if child.tag not in _BEFORE), len(note))
    sign = etree.Element("accidental")
    sign.text = _SIGNS[alter]
    note.insert(at, sign)
