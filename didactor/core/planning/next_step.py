"""What comes next after a take: a proposal with its reason. The teacher decides."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from didactor.core.planning.carrying import Playing, Segment, carried_tempo, segment_to_train
from didactor.core.words import counted, worded

#: With less of it judged than this nothing is concluded from a take.
LEAST_JUDGED = 0.5
#: Faults count as few up to this share of the notes, one at least; as one place from this share of them in a part of the bars so small.
FEW, IN_ONE_PLACE, PART_OF_BARS = 0.03, 0.6, 0.4
#: What is carried is slower from this share of the tempo asked on; and a take was played slower than asked beyond this.
SLOWER_FROM, BELOW_ASKED = 0.96, 0.95
#: After so many takes with the same bars at fault another way is proposed.
STUCK_AFTER = 3
#: A segment is given a tempo that is known to within this ratio, and no slower than this share of what is asked.
KNOWN_WITHIN, SLOWEST = 1.3, 0.55
#: Minutes a day: a segment's bars, a passage's.
MINUTES_A_BAR, LEAST_MINUTES, MOST_MINUTES = 2, 5, 15


class Next(StrEnum):
    PASSED = "passed"
    ONCE_MORE = "once_more"
    STAY = "stay"
    SLOWER = "slower"
    SHORTER = "shorter"
    STEP = "step"
    NEXT = "next"


@dataclass(frozen=True, slots=True, kw_only=True)
class TakeFacts:
    """One take: tempi in beats a minute (``played`` None where it could not be told), notes judged and expected, faults by bar (wrong and
    missed notes, pauses), and how many of its remarks are of rhythm.
    """

    asked: float
    played: float | None
    judged: int
    expected: int
    faults: Mapping[str, int] = field(default_factory=dict)
    rhythm: int = 0

    @property
    def count(self) -> int:
        return sum(self.faults.values())

    @property
    def is_judged(self) -> bool:
        return self.expected > 0 and self.judged >= LEAST_JUDGED * self.expected


@dataclass(frozen=True, slots=True, kw_only=True)
class History:
    """All that is known of a task. ``takes``: the oldest first, the one in question last; ``attempts``: at stones, and ``failed`` and
    ``played`` how often each of their bars went wrong and was played; ``rungs``: tempi on the way, the target among them; ``steps``: what
    else can be done with these bars (slugs of ``core/steps``).
    """

    bars: Sequence[str]
    target: float
    asked: float
    takes: Sequence[TakeFacts]
    attempts: Sequence[Playing] = ()
    failed: Mapping[str, int] = field(default_factory=dict)
    played: Mapping[str, int] = field(default_factory=dict)
    rungs: Sequence[float] = ()
    steps: Sequence[str] = ()
    follows: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposal:
    """``next`` with what goes with it, and why. ``bars``: a segment to train; ``minutes`` a day."""

    next: Next
    because: str
    tempo: float | None = None
    bars: str = ""
    step: str = ""
    minutes: int | None = None


def propose(history: History) -> Proposal | None:
    """The next step; None before any take."""
    if not history.takes:
        return None
    last = history.takes[-1]
    if not last.is_judged:
        because = worded("Too little of this take could be judged: the recording, not the playing, needs another go.")
        return Proposal(next=Next.ONCE_MORE, because=because)
    if last.count == 0:
        return _after_a_clean_one(history, last)
    segment = worst_segment(history)
    found = _another_way(history, last, segment) or _shorter(history, last, segment) or _slower(history)
    if found is not None:
        return found
    if last.count <= max(1, FEW * last.judged):
        because = counted("Nearly: one place, and the tempo is carried.", "Nearly: {count} places, and the tempo is carried.", last.count)
        return Proposal(next=Next.ONCE_MORE, because=because, minutes=LEAST_MINUTES)
    return Proposal(
        next=Next.STAY,
        because=worded("{count} faults all over at a tempo that is carried elsewhere: more time.", count=last.count),
        minutes=_minutes(len(history.bars)),
        bars=segment.bars if segment else "",
    )


def _another_way(history: History, last: TakeFacts, segment: Segment | None) -> Proposal | None:
    """Another step on bars that went wrong take after take."""
    if segment is None or not history.steps or not _is_stuck(history, segment):
        return None
    step = "clap" if "clap" in history.steps and 2 * last.rhythm >= last.count else history.steps[0]
    because = worded(
        "In each of the last {takes} takes it went wrong in {bars}: another way into the same bars.",
        bars=segment.in_words,
        takes=STUCK_AFTER,
    )
    return Proposal(next=Next.STEP, because=because, step=step, bars=segment.bars, minutes=LEAST_MINUTES)


def _shorter(history: History, last: TakeFacts, segment: Segment | None) -> Proposal | None:
    """The segment alone, where nearly all lies in it."""
    if segment is None or last.count < 2 or segment.share < IN_ONE_PLACE or _size(history, segment) > PART_OF_BARS * len(history.bars):
        return None
    because = (
        worded("All faults lie in {bars}: these alone first.", bars=segment.in_words)
        if segment.share > 0.99
        else worded("{share} of 10 faults lie in {bars}: these alone first.", share=round(10 * segment.share), bars=segment.in_words)
    )
    return Proposal(
        next=Next.SHORTER,
        because=because,
        bars=segment.bars,
        tempo=_carried(history),
        minutes=_minutes(_size(history, segment)),
    )


def worst_segment(history: History) -> Segment | None:
    """The bars to train, by the last takes and all attempts."""
    faults: dict[str, float] = dict(history.failed)
    plays: dict[str, float] = dict(history.played)
    for take in [t for t in history.takes if t.is_judged][-STUCK_AFTER:]:
        for bar in history.bars:
            faults[bar] = faults.get(bar, 0.0) + min(1, take.faults.get(bar, 0))
            plays[bar] = plays.get(bar, 0.0) + 1
    return segment_to_train(history.bars, faults, plays)


def _after_a_clean_one(history: History, last: TakeFacts) -> Proposal:
    rung = next((r for r in sorted(history.rungs) if r > history.asked + 0.5), None)
    if last.played is not None and last.played < BELOW_ASKED * last.asked:
        because = worded("Everything is right, at {played:.0f} instead of {asked:g}.", played=last.played, asked=last.asked)
        return Proposal(next=Next.ONCE_MORE, because=because, tempo=None, minutes=LEAST_MINUTES)
    if rung is not None and history.asked < history.target - 0.5:
        return Proposal(
            next=Next.NEXT,
            because=worded("Without a fault at {asked:g}: the next rung is {rung:g}.", asked=history.asked, rung=rung),
            tempo=rung,
        )
    if history.follows:
        return Proposal(next=Next.NEXT, because=worded("Without a fault at the tempo: on to what follows."))
    return Proposal(next=Next.PASSED, because=worded("Without a fault at the tempo."))


def _slower(history: History) -> Proposal | None:
    """A tempo that is carried, where it is slower than what is asked."""
    found = carried_tempo(_playings(history), history.target)
    if found is None or found.tempo >= SLOWER_FROM * history.asked:
        return None
    tempo = float(round(found.tempo))
    if found.alone:
        last = history.takes[-1]
        below = max((r for r in history.rungs if r < min(history.asked, last.played or history.asked) - 0.5), default=0.9 * history.asked)
        tempo = float(round(min(below, found.tempo)))
        because = worded(
            "One take alone says that {asked:g} is too fast, not what would hold: try {tempo:g}.", asked=history.asked, tempo=tempo
        )
    else:
        because = worded(
            "By all takes and stones {tempo:g} is carried ({low:.0f} to {high:.0f}), {asked:g} not yet.",
            tempo=tempo,
            low=found.low,
            high=found.high,
            asked=history.asked,
        )
    return Proposal(next=Next.SLOWER, because=because, tempo=tempo, minutes=_minutes(len(history.bars)))


def _carried(history: History) -> float | None:
    """A tempo for the segment, where it is known well enough; what fails at every tempo is no matter of tempo."""
    found = carried_tempo(_playings(history), history.target)
    if found is None or found.alone or not SLOWEST * history.asked <= found.tempo < SLOWER_FROM * history.asked:
        return None
    return float(round(found.tempo)) if found.high <= KNOWN_WITHIN * found.low else None


def _playings(history: History) -> list[Playing]:
    takes = [Playing(tempo=t.played or t.asked, notes=t.judged, faults=t.count) for t in history.takes if t.is_judged]
    return [*history.attempts, *takes]


def _is_stuck(history: History, segment: Segment) -> bool:
    """The same bars went wrong in each of the last takes."""
    last = [t for t in history.takes if t.is_judged][-STUCK_AFTER:]
    if len(last) < STUCK_AFTER:
        return False
    inside = _inside(history, segment)
    return all(any(take.faults.get(bar) for bar in inside) for take in last)


def _inside(history: History, segment: Segment) -> Sequence[str]:
    return history.bars[history.bars.index(segment.first) : history.bars.index(segment.last) + 1]


def _size(history: History, segment: Segment) -> int:
    return len(_inside(history, segment))


def _minutes(bars: int) -> int:
    return min(MOST_MINUTES, max(LEAST_MINUTES, MINUTES_A_BAR * bars))
