"""The score with what was heard written into it, as MusicXML for any notation program: coloured notes and words below them."""

from __future__ import annotations

from lxml import etree

from didactor.core.formats.result import Result
from didactor.core.hearing.hearing import Status
from didactor.core.score.read.musicxml import parse

#: Only what a finding names has colour, and one for all: the words below say what it is.
ACCENT, NOT_JUDGED = "#9C3D1F", "#8A8A8A"
MOST_WORDS_PER_NOTE = 2


def annotate_musicxml(prepared: bytes, result: Result) -> bytes:
    """Findings written into prepared MusicXML (the same that was judged: the ids of the notes must be its own).

    Args:
        prepared: from ``musicxml.prepare``.
        result: what was heard.

    Raises:
        ScoreError: not a score.
    """
    root = parse(prepared)
    by_id = {note.get("id"): note for note in root.iter("note")}
    for item in result.notes or ():
        note = by_id.get(item.id)
        if note is not None and item.status is Status.UNCERTAIN:
            note.set("color", NOT_JUDGED)
    words: dict[str, list[str]] = {}
    for finding in result.findings or ():
        known = [note_id for note_id in finding.note_ids if note_id in by_id]
        for note_id in known:
            by_id[note_id].set("color", ACCENT)
        if known and finding.text not in words.get(known[0], []):
            words.setdefault(known[0], []).append(finding.text)
    for note_id, sentences in words.items():
        note = by_id[note_id]
        while note.find("chord") is not None and (before := note.getprevious()) is not None:
            note = before  # nothing may stand between the notes of a chord
        for sentence in sentences[:MOST_WORDS_PER_NOTE]:
            note.addprevious(_words(sentence, note.findtext("staff")))
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8")


def _words(sentence: str, staff: str | None) -> etree._Element:
    direction = etree.Element("direction", placement="below")
    kind = etree.SubElement(direction, "direction-type")
    etree.SubElement(kind, "words", {"font-style": "italic", "font-size": "8", "color": ACCENT}).text = _short(sentence)
    if staff:
        etree.SubElement(direction, "staff").text = staff
    return direction


def _short(sentence: str) -> str:
    """The place is where the words stand: “Bar 6, beat 1: ...” loses its head."""
    return sentence.split(": ", 1)[1] if sentence.startswith("Bar ") and ": " in sentence else sentence
