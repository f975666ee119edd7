"""What kind of fault keeps a stone from becoming firm, read from all its attempts, and what mends it.

Each kind is a hypothesis about where an attempt fails: at every tempo, only when fast, only where two stones meet. Each attempt fails or
not at the place in question, and the marginal likelihood of the attempts under a hypothesis is that of Beta-binomial counts: Beta(3, 1.5)
where it says that attempts fail, Beta(1, 15) where it says they are clean; noise is Beta(1, 12) throughout (Kass & Raftery 1995 on
Bayes factors: above two natural units the evidence is positive).
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise

FAILS, CLEAN, NOISE = (3.0, 1.5), (1.0, 15.0), (1.0, 12.0)
#: Evidence from which on a kind is named, and failures at one place before anything is.
FROM_NATS, FEWEST_FAILURES = 2.0, 3
#: “Slower” is said with more evidence: a component that is not ready is no matter of speed, and slower alone would only put it off.
FAST_FROM_NATS = 4.0
#: Two tempi are two when they lie so far apart.
APART = 0.06
#: Where it cannot be told yet: so much slower, and so often.
TRY_SLOWER, TRY_TIMES = 0.72, 3


class FaultKind(StrEnum):
    EVERY_TEMPO = "every_tempo"
    FAST = "fast"
    JOIN = "join"
    AFTER_REST = "after_rest"
    CARRIED_OVER = "carried_over"


@dataclass(frozen=True, slots=True, kw_only=True)
class Try:
    """One attempt, as far as this asks: its tempo, the notes it failed at (none: clean), and whether it went over a seam."""

    tempo: float
    failed: tuple[str, ...] = ()
    joined: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """What the score says of a note: ``after_rest``: it is the first one after a rest, or the entry; ``at_seam``: it is next to the bar
    line that is joined; ``like``: the number of a bar that is alike up to here and goes on differently.
    """

    bar: str
    after_rest: bool = False
    at_seam: bool = False
    like: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Reading:
    """``kind`` None: it cannot be told yet. ``at``: id of the note it is about; ``clean_at``: the fastest tempo at which it was clean."""

    kind: FaultKind | None
    at: str = ""
    bar: str = ""
    like: str = ""
    nats: float = 0.0
    clean_at: float | None = None
    tempi: tuple[float, ...] = ()


def read_kind(tries: Sequence[Try], places: dict[str, Place], carried: Iterable[str] = ()) -> Reading | None:
    """The kind of the fault at the worst place; None before anything has failed often enough.

    Args:
        tries: attempts at a stone and at what it is joined to, the oldest first.
        places: by note id; notes that are not in it have nothing special.
        carried: ids of notes at which the like bar's note was heard in place of the written one, once for each time.
    """
    hits = Counter(note for t in tries for note in t.failed)
    if not hits or max(hits.values()) < FEWEST_FAILURES:
        return None
    worst = max(hits, key=lambda note: (hits[note], note))
    place = places.get(worst, Place(bar=""))
    failed = [worst in t.failed for t in tries]
    tempi = sorted({t.tempo for t in tries})
    noise = _likelihood(failed, NOISE)
    every = _likelihood(failed, FAILS)
    scores = {FaultKind.EVERY_TEMPO: every}
    cuts = [(a + b) / 2 for a, b in pairwise(tempi) if b > a * (1 + APART)]
    if cuts:
        split = [_split(failed, [t.tempo > cut for t in tries]) for cut in cuts]
        scores[FaultKind.FAST] = _mean_of_logs(split)
    if place.at_seam and any(t.joined for t in tries):
        scores[FaultKind.JOIN] = _split(failed, [t.joined for t in tries])
    share = Counter(carried)[worst] / hits[worst]
    if place.like and share >= 0.5:
        scores[FaultKind.CARRIED_OVER] = every + math.log(1 + 6 * share)
    elif place.after_rest:
        scores[FaultKind.AFTER_REST] = every + 0.7
    ordered = sorted(scores, key=lambda kind: -scores[kind])
    best = ordered[0]
    ahead = scores[best] - max([noise, *(scores[kind] for kind in ordered[1:] if not _agree(kind, best))])
    clean = [t.tempo for t, bad in zip(tries, failed, strict=True) if not bad and (best is not FaultKind.JOIN or not t.joined)]
    told = ahead >= (FAST_FROM_NATS if best is FaultKind.FAST else FROM_NATS) and (
        best is not FaultKind.EVERY_TEMPO or len(cuts) > 0 or not _slower_is_untried(tries)
    )
    return Reading(
        kind=best if told else None,
        at=worst,
        bar=place.bar,
        like=place.like,
        nats=ahead,
        clean_at=max(clean, default=None),
        tempi=tuple(tempi),
    )


def _agree(one: FaultKind, other: FaultKind) -> bool:
    """Kinds that say the same of the attempts and differ by what the score says: the special one is told."""
    special = {FaultKind.AFTER_REST, FaultKind.CARRIED_OVER}
    return FaultKind.EVERY_TEMPO in (one, other) and bool({one, other} & special)


def _slower_is_untried(tries: Sequence[Try]) -> bool:
    """Whether all attempts were at about one tempo: a fault of speed and one of every tempo look alike then."""
    return len({round(math.log(t.tempo) / APART) for t in tries}) < 2


def _likelihood(failed: Sequence[bool], prior: tuple[float, float]) -> float:
    """Log of the marginal likelihood of a row of failures under a Beta prior."""
    a, b = prior
    k, n = sum(failed), len(failed)
    return _log_beta(a + k, b + n - k) - _log_beta(a, b)


def _split(failed: Sequence[bool], where: Sequence[bool]) -> float:
    inside = [f for f, w in zip(failed, where, strict=True) if w]
    outside = [f for f, w in zip(failed, where, strict=True) if not w]
    return _likelihood(inside, FAILS) + _likelihood(outside, CLEAN)


def _log_beta(a: float, b: float) -> float:
    return math.lgamma(a) + math.lgamma(b) - math.lgamma(a + b)


def _mean_of_logs(values: Sequence[float]) -> float:
    top = max(values)
    return top + math.log(sum(math.exp(v - top) for v in values) / len(values))
