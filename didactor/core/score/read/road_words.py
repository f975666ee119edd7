"""The words of the road map: where to jump and where to stop, as printed for players."""

from __future__ import annotations

import re

JUMPS = ("dacapo", "dalsegno")
MARKS = ("segno", "coda", "tocoda", "fine")

_IN_WORDS = (
    (re.compile(r"d\.?\s?c\.?(\s|$)|da\s?capo", re.I), "dacapo"),
    (re.compile(r"d\.?\s?s\.?(\s|$)|dal\s?segno", re.I), "dalsegno"),
    (re.compile(r"fine[.]?$", re.I), "fine"),
    (re.compile(r"(to|alla?|al)\s?(coda|𝄌|⊕)", re.I), "tocoda"),
    (re.compile(r"(coda|𝄌|⊕)$", re.I), "coda"),
    (re.compile(r"(segno|𝄋)$", re.I), "segno"),
)


def meaning_of(text: str) -> str | None:
    """One of ``JUMPS`` or ``MARKS``, by MusicXML's names, or None for words that say nothing of the road."""
    plain = " ".join(text.split())
    return next((name for pattern, name in _IN_WORDS if pattern.match(plain)), None)
