"""Where practice pays: lines that come back, moved or varied, weighed by how hard they are and how often they fail.

Bars are compared one with one as in ``likeness``; a line is a run of at least two bars that follow each other in both places, all at the
same distance in pitch, of which one may differ a little.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass

from didactor.core.score.model import Part
from didactor.core.score.study.likeness import Kind, compared
from didactor.core.words import counted, worded

#: A line is so long at least, and so many of its bars may differ by a note.
SHORTEST, MOST_VARIED = 2, 1
#: How much a bar weighs that has never failed, and how much a failure adds.
NEVER_FAILED = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class LikeLine:
    """Bars from ``first`` on are like those from ``pattern`` on, ``length`` of them (indices of bars), ``semitones`` higher; ``varied`` are
    those that differ a little.
    """

    first: int
    pattern: int
    length: int
    semitones: int
    varied: tuple[int, ...] = ()


def like_lines(part: Part) -> list[LikeLine]:
    """Every longest line that is like an earlier one, in the order of the score; lines inside longer ones are left out."""
    alike = compared(part)
    found: list[LikeLine] = []
    for later, earlier in sorted(alike):
        if (later - 1, earlier - 1) in alike and _same_distance(alike[later - 1, earlier - 1], alike[later, earlier]):
            continue  # it is inside a line that began before
        length, distance = 0, None
        varied: list[int] = []
        while (later + length, earlier + length) in alike and earlier + length < later:
            kind, semitones = alike[later + length, earlier + length]
            if distance is not None and semitones != distance:
                break
            if kind is Kind.ALMOST:
                if len(varied) >= MOST_VARIED:
                    break
                varied.append(later + length)
            distance = semitones
            length += 1
        if length >= SHORTEST and length > len(varied):
            found.append(LikeLine(first=later, pattern=earlier, length=length, semitones=distance or 0, varied=tuple(varied)))
    return _without_inner(found)


def _same_distance(one: tuple[Kind, int], other: tuple[Kind, int]) -> bool:
    return one[1] == other[1]


def _without_inner(lines: list[LikeLine]) -> list[LikeLine]:
    """Of lines that lie inside longer ones only the longest; of several patterns of one line the first."""
    kept: list[LikeLine] = []
    for line in sorted(lines, key=lambda one: (-one.length, one.first, one.pattern)):
        span = set(range(line.first, line.first + line.length))
        if not any(span <= set(range(k.first, k.first + k.length)) for k in kept):
            kept.append(line)
    return sorted(kept, key=lambda one: one.first)


@dataclass(frozen=True, slots=True, kw_only=True)
class Payoff:
    """Bars (by printed number) that pay: ``wins`` bars more are like them; ``cost`` is their share of all that failed, 0 to 1; ``value``
    orders them.
    """

    first: str
    last: str
    wins: int
    cost: float
    value: float

    @property
    def bars(self) -> str:
        return self.first if self.first == self.last else f"{self.first}–{self.last}"

    @property
    def in_words(self) -> str:
        many = self.first != self.last
        named = worded("Bars {bars}", bars=self.bars) if many else worded("Bar {bars}", bars=self.bars)
        said = []
        if self.wins:
            said.append(
                counted("learn them, and one bar more is won", "learn them, and {count} bars more are won", self.wins)
                if many
                else counted("learn it, and one bar more is won", "learn it, and {count} bars more are won", self.wins)
            )
        if self.cost >= 0.1:
            said.append(
                (
                    worded("they cost all of the faults")
                    if self.cost > 0.99
                    else worded("they cost {cost} % of the faults", cost=round(100 * self.cost))
                )
                if many
                else (
                    worded("it costs all of the faults")
                    if self.cost > 0.99
                    else worded("it costs {cost} % of the faults", cost=round(100 * self.cost))
                )
            )
        return f"{named}: {'; '.join(said)}." if said else f"{named}."


def payoffs(part: Part, hardness: Mapping[str, float], failed: Mapping[str, int] | None = None, most: int = 3) -> list[Payoff]:
    """Where it pays most: hardness, times how often the bars come back, times how often they fail.

    Args:
        hardness: of a bar by its printed number, 0 to 1; bars that are not in it are left out.
        failed: how often each bar failed, as far as that is known.
    """
    failed = failed or {}
    everything = sum(failed.values())
    numbers = [bar.number for bar in part.bars]
    lines = like_lines(part)
    returns, patterns = _returns(lines), {line.pattern: line for line in reversed(lines)}
    found, taken = [], set()
    for index, number in enumerate(numbers):
        if number not in hardness or index in taken:
            continue
        length = patterns[index].length if index in patterns else 1
        span = [i for i in range(index, index + length) if numbers[i] in hardness]
        taken |= set(span)
        wins = sum(returns[i] for i in span)
        cost = sum(failed.get(numbers[i], 0) for i in span) / everything if everything else 0.0
        hard = max(hardness[numbers[i]] for i in span)
        value = hard * (1 + wins / len(span)) * (NEVER_FAILED + cost)
        found.append(Payoff(first=numbers[span[0]], last=numbers[span[-1]], wins=wins, cost=cost, value=value))
    worth = [p for p in found if p.wins or p.cost >= 0.1]
    return sorted(worth, key=lambda p: -p.value)[:most]


def _returns(lines: list[LikeLine]) -> Counter[int]:
    """How often each bar comes back, by its index."""
    return Counter(line.pattern + k for line in lines for k in range(line.length))


def weights(part: Part, hardness: Mapping[str, float], failed: Mapping[str, int] | None = None) -> dict[str, float]:
    """What each bar is worth against the most worthwhile one, by its printed number: the order in which the hardest come first."""
    failed = failed or {}
    everything = sum(failed.values()) or 1
    returns = _returns(like_lines(part))
    raw = {}
    for bar in part.bars:
        fails = NEVER_FAILED + failed.get(bar.number, 0) / everything
        raw[bar.number] = hardness.get(bar.number, 0.0) * (1 + returns[bar.index]) * fails
    most = max(raw.values(), default=0.0) or 1.0
    return {number: value / most for number, value in raw.items()}
