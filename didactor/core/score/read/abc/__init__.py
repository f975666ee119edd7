"""ABC notation in (standard 2.1): tunes to MusicXML, with a list of what was not understood."""

from __future__ import annotations

import re

from didactor.core.errors import Problem, ScoreError
from didactor.core.score.read.abc.tune import abc_to_musicxml, tunes_in
from didactor.core.score.read.formats import Format, Sample, register
from didactor.core.words import worded

__all__ = ["abc_to_musicxml", "tunes_in"]


def _recognises(sample: Sample) -> bool:
    text = sample.text
    if re.search(r"(?i)\{\s*start_of_abc\b", text):
        return False  # a tune inside a song
    return bool(re.search(r"(?m)^X:\s*\d", text) or (re.search(r"(?m)^K:", text) and not re.search(r"\[[A-G][^\]:]{0,30}\]\w", text)))


def _read(sample: Sample) -> list[tuple[bytes, list[Problem]]]:
    """All tunes of a book that can be read; those that cannot are told of with the first. A single one is refused with its own words."""
    read: list[tuple[bytes, list[Problem]]] = []
    refused: list[tuple[str, ScoreError]] = []
    for tune in tunes_in(sample.text):
        try:
            read.append(abc_to_musicxml(tune))
        except ScoreError as error:
            title = re.search(r"(?m)^T:\s*(.+)$", tune)
            refused.append((title[1].strip()[:80] if title else worded("without a title"), error))
    if not read:
        raise refused[0][1]
    read[0][1].extend(
        Problem(code="score.tune", text=worded("The tune “{title}” is left out. {message}", title=title, message=error.message))
        for title, error in refused
    )
    return read


register(
    Format(
        title="ABC",
        suffixes=(".abc", ".txt"),
        place=30,
        recognises=_recognises,
        read=_read,
    )
)
