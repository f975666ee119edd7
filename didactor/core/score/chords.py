"""Chord symbols: their pitch classes, from MusicXML and from plain text such as ``F#m7``."""

from __future__ import annotations

import re

from lxml import etree

from didactor.core.score.model import ChordSymbol
from didactor.core.units import STEP_SEMITONES

#: Intervals above the root in semitones, by MusicXML's kind; the text is how the symbol is usually written.
KINDS: dict[str, tuple[str, tuple[int, ...]]] = {
    "major": ("", (0, 4, 7)),
    "minor": ("m", (0, 3, 7)),
    "dominant": ("7", (0, 4, 7, 10)),
    "major-seventh": ("maj7", (0, 4, 7, 11)),
    "minor-seventh": ("m7", (0, 3, 7, 10)),
    "diminished": ("dim", (0, 3, 6)),
    "augmented": ("aug", (0, 4, 8)),
    "diminished-seventh": ("dim7", (0, 3, 6, 9)),
    "half-diminished": ("m7b5", (0, 3, 6, 10)),
    "suspended-second": ("sus2", (0, 2, 7)),
    "suspended-fourth": ("sus4", (0, 5, 7)),
    "major-sixth": ("6", (0, 4, 7, 9)),
    "minor-sixth": ("m6", (0, 3, 7, 9)),
    "power": ("5", (0, 7)),
}
_BY_TEXT = {text: kind for kind, (text, _) in KINDS.items()}
_SIGNS = {"": 0, "#": 1, "b": -1, "##": 2, "bb": -2}
_SYMBOL = re.compile(r"^([A-G])(##|#|bb|b)?([a-z0-9]*)(?:/([A-G])(#|b)?)?$")


def chord_pitch_classes(text: str) -> tuple[int, ...]:
    """Pitch classes of a symbol (``Am``, ``F#m7``, ``C/E``), the root first. Raises ``ValueError`` for one not known."""
    match = _SYMBOL.match(text.strip())
    if match is None or match[3] not in _BY_TEXT:
        raise ValueError(f"not a chord: {text!r}")
    root = STEP_SEMITONES[match[1]] + _SIGNS[match[2] or ""]
    classes = tuple((root + interval) % 12 for interval in KINDS[_BY_TEXT[match[3]]][1])
    bass = (STEP_SEMITONES[match[4]] + _SIGNS[match[5] or ""]) % 12 if match[4] else None
    return classes if bass is None or bass in classes else (*classes, bass)


def split_symbol(text: str) -> tuple[str, str, str]:
    """Root step, its sign and MusicXML's kind of a symbol. Raises ``ValueError`` for one not known."""
    chord_pitch_classes(text)
    match = _SYMBOL.match(text.strip())
    assert match is not None
    return match[1], match[2] or "", _BY_TEXT[match[3]]


def read_harmony(element: etree._Element, bar_index: int, onset_quarters: float, transposition: int) -> ChordSymbol | None:
    """A ``<harmony>`` as a symbol that sounds ``transposition`` semitones from what is written; None where it names no root."""
    step = (element.findtext("root/root-step") or "").strip().upper()
    if step not in STEP_SEMITONES:
        return None
    alter = round(float(element.findtext("root/root-alter") or 0))
    kind = (element.findtext("kind") or "major").strip()
    text, intervals = KINDS.get(kind, KINDS["major"])
    sign = next((s for s, value in _SIGNS.items() if value == alter), "")
    root = STEP_SEMITONES[step] + alter + transposition
    return ChordSymbol(
        bar_index=bar_index,
        onset_quarters=onset_quarters,
        text=f"{step}{sign}{text}",
        pitch_classes=tuple((root + i) % 12 for i in intervals),
    )
