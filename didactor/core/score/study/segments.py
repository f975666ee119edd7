"""Where a piece can be cut for practice: two bars at a time, by phrases, the hardest bars first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from didactor.core.score.model import Bar, Part
from didactor.core.score.study.difficulty import Difficulty

#: A phrase is at least and mostly at most so many bars long.
SHORTEST_PHRASE, LONGEST_PHRASE = 2, 8
#: A note that fills so much of its bar, at its end, closes a phrase.
CLOSING_SHARE = 0.45


@dataclass(frozen=True, slots=True, kw_only=True)
class Segment:
    """Bars by printed number, both included."""

    first: str
    last: str

    @property
    def bars(self) -> str:
        return self.first if self.first == self.last else f"{self.first}-{self.last}"


def two_by_two(bars: Sequence[Bar]) -> list[Segment]:
    """Two bars at a time; an upbeat belongs to the first."""
    start = 1 if len(bars) > 2 and bars[0].number == "0" else 0
    found = []
    for index in range(start, len(bars), 2):
        first = bars[0] if index == start else bars[index]
        found.append(Segment(first=first.number, last=bars[min(index + 1, len(bars) - 1)].number))
    return found


def phrases(part: Part) -> list[Segment]:
    """Cut after repeats and double bars, after long closing notes and before rests; never shorter than two bars."""
    found: list[Segment] = []
    begin = 0
    for index, bar in enumerate(part.bars):
        length = index - begin + 1
        last = index == len(part.bars) - 1
        enough = length >= SHORTEST_PHRASE and len(part.bars) - index - 1 != 1
        if last or (enough and (_closes(part, bar) or length >= LONGEST_PHRASE)):
            found.append(Segment(first=part.bars[begin].number, last=bar.number))
            begin = index + 1
    return found


def _closes(part: Part, bar: Bar) -> bool:
    if bar.repeat_end or bar.jump or "fine" in bar.marks:
        return True
    own = [n for n in part.notes if n.bar_index == bar.index and n.staff == 1 and not n.grace]
    if not own:
        return True
    last = max(own, key=lambda n: n.onset_quarters)
    if last.tie_start:
        return False
    silence = bar.length_quarters - last.onset_quarters - last.duration_quarters
    return last.duration_quarters >= CLOSING_SHARE * bar.length_quarters or silence >= bar.beat_quarters - 1e-6


def hardest_first(part: Part, found: Difficulty) -> list[Segment]:
    """Every bar with the one before it, the hardest first, none twice: the join into a hard bar is part of it.

    A bar left over between two segments goes with the easier bar after it, or stands alone.
    """
    by_number = {b.number: b.value for b in found.bars}
    order = sorted((b for b in part.bars if b.number in by_number), key=lambda b: -by_number[b.number])
    inside, taken = {b.index for b in order}, set()
    segments = []
    for bar in order:
        if bar.index in taken:
            continue
        beside = [i for i in (bar.index - 1, bar.index + 1) if i in inside and i not in taken]
        span = sorted({bar.index, *beside[:1]})
        taken |= set(span)
        segments.append(Segment(first=part.bars[span[0]].number, last=part.bars[span[-1]].number))
    return segments
