"""A song or a chart as lines to sing and strum from: chord names over words, strokes under them, and when each line is due."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass

from didactor.core.score.expected import Expectation

#: Bars of one line.
BARS_A_LINE = 2


@dataclass(frozen=True, slots=True, kw_only=True)
class SongCell:
    """As long as one chord is in force within a line: its name (empty where the last one goes on), the words sung in it, and the strokes:
    one sign for each beat, ``/`` struck, ``·`` kept silent; ``strokes`` counts those struck.
    """

    chord: str
    words: str
    pattern: str
    strokes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class SongLine:
    """From when to when a line is due, quarters from the start; ``bar`` is the number of its first bar."""

    start_quarters: float
    end_quarters: float
    bar: str
    cells: tuple[SongCell, ...]


def song_lines(expectation: Expectation, syllables: Mapping[str, str]) -> tuple[SongLine, ...]:
    """The passage in its order of playing, in lines of two bars; empty where there are neither words nor chords.

    Args:
        syllables: note id to what is sung on it; a hyphen at its end joins it to the next.
    """
    if not expectation.chords and not any(note.id in syllables for note in expectation.notes):
        return ()
    bars, lines = expectation.bars, []
    first = 1 if bars and expectation.pickup_quarters and len(bars) > 1 else 0
    starts = [0, *range(first + BARS_A_LINE, len(bars), BARS_A_LINE)]
    for number, begin in enumerate(starts):
        inside = bars[begin : starts[number + 1] if number + 1 < len(starts) else len(bars)]
        start, end = inside[0].start_quarters, inside[-1].start_quarters + inside[-1].length_quarters
        cells = tuple(_cells(expectation, syllables, start, end, inside[0].beat_quarters))
        lines.append(SongLine(start_quarters=start, end_quarters=end, bar=inside[0].number, cells=cells))
    return tuple(lines)


def _cells(expectation: Expectation, syllables: Mapping[str, str], start: float, end: float, beat: float) -> list[SongCell]:
    changes = {round(c.onset_quarters, 3): c.text for c in expectation.chords if start - 1e-6 <= c.onset_quarters < end - 1e-6}
    edges = sorted({round(start, 3), *changes, round(end, 3)})
    cells = []
    for at, later in itertools.pairwise(edges):
        inside = [n for n in expectation.notes if at - 1e-6 <= n.onset_quarters < later - 1e-6 and not n.grace]
        words = " ".join(syllables[n.id] for n in inside if n.id in syllables).replace("- ", "")
        struck = sorted({round(n.onset_quarters, 3) for n in inside if n.unpitched})
        cells.append(SongCell(chord=changes.get(at, ""), words=words, pattern=_pattern(struck, at, later, beat), strokes=len(struck)))
    return cells


def _pattern(struck: list[float], start: float, end: float, beat: float) -> str:
    """Beat by beat: a stroke for each that begins in it, a dot where none does."""
    if not struck:
        return ""
    signs = []
    at = start
    while at < end - 1e-6:
        own = sum(at - 1e-6 <= s < min(at + beat, end) - 1e-6 for s in struck)
        signs.append("/" * own or "·")
        at += beat
    return " ".join(signs)
