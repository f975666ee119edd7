"""What a player can carry: the fastest tempo that holds, and the bars that do not, from all takes and attempts together.

Up to the tempo that is carried a player slips now and then, above it the hardest place soon breaks down. The tempo's posterior over a
grid, the player's own slips and how soon it breaks down marginalised, is asked for its median: one lucky or unlucky take moves it little.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import product

from didactor.core.score.roadmap import bars_in_words

#: Slips a note within what one carries, from very reliable to careless; how far above it the hardest place breaks down, as a share of the
#: tempo; how often it breaks down far above it; and of those how often three notes and more go wrong in a whole take.
SLIPS, BREAKS_WITHIN, BREAKS, MANY = (0.0005, 0.003, 0.008, 0.02), (0.02, 0.05, 0.1), 0.9, 0.6
#: The grid, as shares of the target, and its step.
LOWEST, HIGHEST, STEP = 0.35, 1.35, 0.01
#: Older playing says less of today: each one counts so much less than the next.
FADES = 0.98
#: So many faults in a take are more than slips.
MANY_FAULTS = 3
#: The longest segment to train, in bars; and how many plays at the usual rate each bar is thought to have had.
LONGEST_SEGMENT, PRIOR_PLAYS = 4, 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Playing:
    """One take, or one attempt at ``stone``: at ``tempo`` beats a minute, so many notes judged, so many faults in them."""

    tempo: float
    notes: int
    faults: int
    stone: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Carried:
    """The tempo that is carried, beats a minute, and the narrowest span that holds it four times of five. ``alone``: from one take only."""

    tempo: float
    low: float
    high: float
    alone: bool


def carried_tempo(playings: Sequence[Playing], target: float) -> Carried | None:
    """The fastest tempo that a player carries; None where nothing was judged.

    Of the stones the weakest counts, with the whole takes: what is easy carries further than the whole.

    Args:
        playings: the oldest first.
        target: beats a minute that are asked for in the end.
    """
    judged = [p for p in playings if p.notes > 0]
    if not judged or target <= 0:
        return None
    whole = [p for p in judged if not p.stone]
    stones = sorted({p.stone for p in judged if p.stone})
    found = [_posterior([p for p in judged if p.stone in ("", stone)], target) for stone in stones] or [_posterior(whole, target)]
    grid, posterior = min(found, key=lambda entry: _quantile(entry[0], entry[1], 0.5))
    alone = len(judged) == 1
    # Playing shows no more than the tempi that were played.
    tempo = min(_quantile(grid, posterior, 0.5) * target, max(p.tempo for p in judged))
    return Carried(tempo=tempo, low=_quantile(grid, posterior, 0.1) * target, high=_quantile(grid, posterior, 0.9) * target, alone=alone)


def _posterior(playings: Sequence[Playing], target: float) -> tuple[list[float], list[float]]:
    grid = [LOWEST + STEP * k for k in range(round((HIGHEST - LOWEST) / STEP) + 1)]
    players = list(product(SLIPS, BREAKS_WITHIN))
    logs = [[0.0] * len(grid) for _ in players]
    for age, playing in enumerate(reversed(playings)):
        weight = FADES**age
        for row, (slips, within) in zip(logs, players, strict=True):
            for k, share in enumerate(grid):
                row[k] += weight * _log_likelihood(playing, playing.tempo / (share * target) - 1.0, slips, within)
    most = max(max(row) for row in logs)
    return grid, [sum(math.exp(row[k] - most) for row in logs) for k in range(len(grid))]


def _log_likelihood(playing: Playing, above: float, slips: float, within: float) -> float:
    """Of a playing so far above what is carried, as a share of the tempo."""
    breaks = BREAKS * -math.expm1(-max(0.0, above) / within)
    clean = (1 - breaks) * (1 - slips) ** playing.notes
    if playing.faults == 0:
        return math.log(max(1e-9, clean))
    if playing.stone:
        return math.log(max(1e-9, 1 - clean))
    expected = slips * playing.notes
    many_slips = max(0.0, 1 - math.exp(-expected) * (1 + expected + expected**2 / 2))
    many = MANY * breaks + (1 - breaks) * many_slips
    return math.log(max(1e-9, many if playing.faults >= MANY_FAULTS else 1 - clean - many))


def _quantile(grid: Sequence[float], weights: Sequence[float], share: float) -> float:
    wanted, reached = share * sum(weights), 0.0
    for value, weight in zip(grid, weights, strict=True):
        if reached + weight >= wanted:
            return value + STEP * ((wanted - reached) / weight - 0.5)
        reached += weight
    return grid[-1]


@dataclass(frozen=True, slots=True, kw_only=True)
class Segment:
    """Bars to train, with the share of all faults that lies in them."""

    first: str
    last: str
    share: float

    @property
    def bars(self) -> str:
        return self.first if self.first == self.last else f"{self.first}-{self.last}"

    @property
    def in_words(self) -> str:
        return bars_in_words(self.bars)


def segment_to_train(bars: Sequence[str], faults: Mapping[str, float], plays: Mapping[str, float]) -> Segment | None:
    """The bars in a row that fail most beyond what is usual here, four at most; None where nothing failed.

    Args:
        bars: numbers in the order of the score.
        faults: how often something went wrong in each; ``plays`` how often it was played.
    """
    total = sum(faults.get(bar, 0.0) for bar in bars)
    if not bars or total <= 0:
        return None
    usual = total / max(1.0, sum(plays.get(bar, 0.0) for bar in bars))
    excess = [_rate(faults.get(bar, 0.0), plays.get(bar, 0.0), usual) - usual for bar in bars]
    best = max(
        ((sum(excess[i:j]), -(j - i), -i) for i in range(len(bars)) for j in range(i + 1, min(len(bars), i + LONGEST_SEGMENT) + 1)),
        default=None,
    )
    if best is None or best[0] <= 0:
        return None
    first, length = -best[2], -best[1]
    inside = sum(faults.get(bar, 0.0) for bar in bars[first : first + length])
    return Segment(first=bars[first], last=bars[first + length - 1], share=inside / total)


def _rate(faults: float, plays: float, usual: float) -> float:
    """Shrunk towards what is usual: a bar played once proves little."""
    return (faults + PRIOR_PLAYS * usual) / (plays + PRIOR_PLAYS)
