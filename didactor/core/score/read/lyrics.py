"""Syllables under notes, for the page from which one sings."""

from __future__ import annotations

from lxml import etree

from didactor.core.score.read.musicxml import parse


def read_lyrics(prepared: bytes, part: int) -> dict[str, str]:
    """Note id to its syllable of the first verse; one that goes on within its word ends with a hyphen. ``part`` counts from 1."""
    parts = parse(prepared).findall("part")
    found: dict[str, str] = {}
    for note in parts[part - 1].iter("note") if 1 <= part <= len(parts) else ():
        lyric = next((entry for entry in note.findall("lyric") if entry.get("number", "1") in ("1", "")), None)
        text = "" if lyric is None else " ".join(piece for piece in (_text(entry) for entry in lyric.findall("text")) if piece)
        if text and note.get("id"):
            found[str(note.get("id"))] = f"{text}-" if lyric is not None and lyric.findtext("syllabic") in ("begin", "middle") else text
    return found


def _text(element: etree._Element) -> str:
    return (element.text or "").strip()
