"""The crossing: a passage cut into stones, each won by faultless attempts, then joined, then played whole.

Everything follows from the attempts made, in their order: nothing else is kept, so that attempts that come late (from a device that had
no connection) or are heard again only have to be put in their place.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from itertools import pairwise

from didactor.core.errors import PassageError
from didactor.core.score.study.segments import Segment
from didactor.core.words import _, worded


class Outcome(StrEnum):
    """What an attempt was. ``unsure``: the recording does not allow a judgement; ``trial``: it was not to count; ``unheard``: nobody has
    listened to it yet.
    """

    CLEAN = "clean"
    FAULT = "fault"
    UNSURE = "unsure"
    TRIAL = "trial"
    UNHEARD = "unheard"


class Kind(StrEnum):
    OWN = "own"
    JOIN = "join"
    WHOLE = "whole"


class Order(StrEnum):
    IN_ORDER = "in_order"
    JOIN_AT_ONCE = "join_at_once"
    HARDEST_FIRST = "hardest_first"


ORDERS = {
    Order.IN_ORDER: _("All stones in order, then the joins"),
    Order.JOIN_AT_ONCE: _("Each stone is joined to the one before it at once"),
    Order.HARDEST_FIRST: _("The hardest stones first, joined as soon as both sides are firm"),
}
#: What counts against an attempt, besides notes that were not right.
COUNTS = {"notes": _("the notes"), "rhythm": _("notes and rhythm"), "all": _("everything that can be heard")}
#: So many failures in a row are one too many: slower, and something else.
FAILURES_BEFORE_SLOWER = 3
#: Below the tempo of the crossing so many clean attempts in a row lead one step up.
CLEAN_TO_CLIMB = 2
FEWEST_IN_A_ROW, MOST_IN_A_ROW, MOST_OF = 1, 10, 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """When a stone is firm: after ``good`` clean attempts in a row or, with ``of``, among the last so many.

    ``overnight``: a count that has begun goes on the next day. Raises ``PassageError`` for numbers that make no sense.
    """

    good: int = 3
    of: int | None = None
    counts: str = "notes"
    overnight: bool = True

    def __post_init__(self) -> None:
        if not FEWEST_IN_A_ROW <= self.good <= MOST_IN_A_ROW:
            raise PassageError(
                "crossing.rule",
                worded(
                    "Ask for {fewest_in_a_row} to {most_in_a_row} good attempts.",
                    fewest_in_a_row=FEWEST_IN_A_ROW,
                    most_in_a_row=MOST_IN_A_ROW,
                ),
            )
        if self.of is not None and not self.good <= self.of <= MOST_OF:
            raise PassageError(
                "crossing.rule",
                worded(
                    "“{good} of {of}” makes no sense: the second number is {good} to {most_of}.",
                    good=self.good,
                    of=self.of,
                    most_of=MOST_OF,
                ),
            )
        if self.counts not in COUNTS:
            raise PassageError(
                "crossing.rule",
                worded("“{counts}” is not among what can count: {counts_2}.", counts=self.counts, counts_2=", ".join(COUNTS)),
            )

    @property
    def in_words(self) -> str:
        if self.good == 1:
            return worded("once without a fault")
        return (
            worded("{good} times in a row", good=self.good)
            if self.of is None
            else worded("{good} of {of} times", good=self.good, of=self.of)
        )


def default_rule(stage: str, *, young: bool) -> Rule:
    """What is usual: first notes, later their rhythm, close to the day everything; for children who do not read yet two in a row."""
    counts = {"first_reading": "notes", "steady": "rhythm", "at_tempo": "rhythm"}.get(stage, "all")
    return Rule(good=2 if young else 3, counts="notes" if young else counts)


@dataclass(frozen=True, slots=True, kw_only=True)
class Stone:
    """Bars by printed number; of a join the last one before the seam and the first one after it. ``hardness``: 0 to 1.

    ``name`` is made of the bars, ``5-6`` or ``6|7``, so that what was won stays won when a passage is cut anew around it.
    """

    name: str
    kind: Kind
    first: str
    last: str
    sides: tuple[str, ...] = ()
    hardness: float = 0.0

    @property
    def bars(self) -> str:
        return self.first if self.first == self.last else f"{self.first}-{self.last}"


def stones_of(segments: Sequence[Segment], bars: Sequence[str], hardness: Mapping[str, float] | None = None) -> list[Stone]:
    """The stones of a passage: its segments in the order of the score, a join over each seam, the whole.

    Args:
        segments: cuts that do not overlap.
        bars: printed numbers of all bars of the passage, in order.
        hardness: of a bar by its number, 0 to 1.

    Raises:
        PassageError: a segment with bars of another passage, or two that overlap.
    """
    place = {number: index for index, number in reversed(list(enumerate(bars)))}
    hardness = hardness or {}
    for segment in segments:
        for number in (segment.first, segment.last):
            if number not in place:
                raise PassageError("crossing.stones", worded("Bar {number} is not in this passage.", number=number))
        if place[segment.first] > place[segment.last]:
            raise PassageError("crossing.stones", worded("“{bars}” runs backwards.", bars=segment.bars))
    ordered = sorted(segments, key=lambda s: place[s.first])
    for before, after in pairwise(ordered):
        if place[after.first] <= place[before.last]:
            raise PassageError("crossing.stones", worded("Stones do not overlap: bar {first} is in two.", first=after.first))

    def hardest(first: str, last: str) -> float:
        return max((hardness.get(bars[i], 0.0) for i in range(place[first], place[last] + 1)), default=0.0)

    own = [Stone(name=f"{s.first}-{s.last}", kind=Kind.OWN, first=s.first, last=s.last, hardness=hardest(s.first, s.last)) for s in ordered]
    joins = [
        Stone(
            name=f"{a.last}|{b.first}",
            kind=Kind.JOIN,
            first=a.last,
            last=b.first,
            sides=(a.name, b.name),
            hardness=hardest(a.last, b.first),
        )
        for a, b in pairwise(own)
        if place[b.first] == place[a.last] + 1
    ]
    whole = [Stone(name="whole", kind=Kind.WHOLE, first=own[0].first, last=own[-1].last, sides=tuple(s.name for s in own))]
    return [*own, *joins, *(whole if len(own) > 1 else ())]


def in_order_of_work(stones: Sequence[Stone], order: Order) -> list[Stone]:
    """The stones as they are taken one after the other."""
    own = [s for s in stones if s.kind is Kind.OWN]
    joins = [s for s in stones if s.kind is Kind.JOIN]
    rest = [s for s in stones if s.kind is Kind.WHOLE]
    if order is Order.IN_ORDER:
        return [*own, *joins, *rest]
    if order is Order.HARDEST_FIRST:
        own = sorted(own, key=lambda s: -s.hardness)
    done: set[str] = set()
    found: list[Stone] = []
    for stone in own:
        found.append(stone)
        done.add(stone.name)
        ready = [join for join in joins if join not in found and set(join.sides) <= done]
        found += ready
    return [*found, *rest]


@dataclass(frozen=True, slots=True, kw_only=True)
class Attempt:
    """``tempo``: beats a minute it was counted off at; ``day``: any number that grows by one a day. ``step``: a remedy's, which has a
    count of its own and does not count for the stone.
    """

    stone: str
    outcome: Outcome
    tempo: float
    day: int = 0
    step: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """Where a stone stands. ``tally`` of ``need`` strokes are won; ``failures`` in a row at this tempo; ``shaken``: firm, but its last
    attempt had a fault: another one and it is to be won again. ``slower``: three failures led down to ``tempo``.
    """

    tempo: float
    tally: int = 0
    need: int = 3
    firm: bool = False
    shaken: bool = False
    failures: int = 0
    slower: bool = False
    attempts: int = 0
    unheard: int = 0
    clean_at: float | None = None


@dataclass(slots=True)
class _Count:
    rungs: Sequence[float]
    rule: Rule
    rung: int
    recent: list[bool] = field(default_factory=list)
    climbing: int = 0
    failures: int = 0
    firm: bool = False
    shaken: bool = False
    slower: bool = False
    day: int | None = None
    attempts: int = 0
    unheard: int = 0
    clean_at: float | None = None

    @property
    def tally(self) -> int:
        if self.rule.of is None:
            count = 0
            for good in reversed(self.recent):
                if not good:
                    break
                count += 1
            return min(count, self.rule.good)
        return min(sum(self.recent[-self.rule.of :]), self.rule.good)

    def take(self, attempt: Attempt) -> None:
        if self.day is not None and attempt.day != self.day and not self.rule.overnight:
            self.recent, self.climbing = [], 0
        self.day = attempt.day
        if attempt.outcome is Outcome.UNHEARD:
            self.unheard += 1
        if attempt.outcome not in (Outcome.CLEAN, Outcome.FAULT):
            return
        self.attempts += 1
        clean = attempt.outcome is Outcome.CLEAN
        if clean:
            self.clean_at = max(self.clean_at or 0.0, attempt.tempo)
        top = len(self.rungs) - 1
        if self.firm:
            self._return(clean)
        elif attempt.tempo >= self.rungs[top] - 0.5:
            # At the tempo of the crossing it counts, wherever the ladder stands.
            self.recent.append(clean)
            if clean:
                self.rung, self.slower, self.failures = top, False, 0
                self.firm = self.tally >= self.rule.good
            else:
                self._fail()
        elif clean:
            self.failures = 0
            self.climbing += 1
            if self.climbing >= CLEAN_TO_CLIMB and attempt.tempo >= self.rungs[self.rung] - 0.5:
                self.rung, self.climbing = min(self.rung + 1, top), 0
                self.slower = self.slower and self.rung < top
        else:
            self._fail()

    def _return(self, clean: bool) -> None:
        """A stone that was firm is played again: one fault shakes it, two in a row and it is to be won anew."""
        if clean:
            self.shaken = False
        elif self.shaken:
            self.firm = self.shaken = False
            self.recent, self.failures = [], 2
        else:
            self.shaken = True

    def _fail(self) -> None:
        self.climbing = 0
        self.failures += 1
        if self.failures >= FAILURES_BEFORE_SLOWER and self.rung > 0:
            self.rung, self.failures, self.slower = self.rung - 1, 0, True


def standing(attempts: Iterable[Attempt], rule: Rule, rungs: Sequence[float], begin: float | None = None, whole: bool = False) -> Standing:
    """Where one stone stands after its attempts, the oldest first.

    Args:
        rungs: tempi from slow to the crossing's own, ascending, one at least.
        begin: the tempo to begin at; the crossing's own where None.
        whole: the run of the whole passage: one clean one is enough.
    """
    start = len(rungs) - 1 if begin is None else min(range(len(rungs)), key=lambda k: (abs(rungs[k] - begin), k))
    count = _Count(rungs=rungs, rule=Rule(good=1, counts=rule.counts) if whole else rule, rung=start)
    for attempt in attempts:
        if not attempt.step:
            count.take(attempt)
    return Standing(
        tempo=rungs[count.rung],
        tally=count.rule.good if count.firm else count.tally,
        need=count.rule.good,
        firm=count.firm,
        shaken=count.shaken,
        failures=count.failures,
        slower=count.slower,
        attempts=count.attempts,
        unheard=count.unheard,
        clean_at=count.clean_at,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Crossing:
    """All stones in the order of work with their standings; ``at``: the one at work, None when all carries."""

    stones: tuple[Stone, ...]
    standings: Mapping[str, Standing]
    at: Stone | None

    @property
    def carries(self) -> bool:
        return self.at is None

    @property
    def firm(self) -> int:
        return sum(standing.firm for standing in self.standings.values())


def crossing(
    stones: Sequence[Stone],
    attempts: Sequence[Attempt],
    rule: Rule,
    order: Order,
    rungs: Sequence[float],
    begin: float | None = None,
) -> Crossing:
    """Where the whole crossing stands. A stone that lost its hold comes first, then the next one in the order of work."""
    ordered = in_order_of_work(stones, order)
    by_stone: dict[str, list[Attempt]] = {}
    for attempt in attempts:
        by_stone.setdefault(attempt.stone, []).append(attempt)
    found = {s.name: standing(by_stone.get(s.name, ()), rule, rungs, begin, s.kind is Kind.WHOLE) for s in ordered}
    lost = next((s for s in ordered if found[s.name].shaken), None)
    return Crossing(stones=tuple(ordered), standings=found, at=lost or next((s for s in ordered if not found[s.name].firm), None))


def clean_tempo_of_bars(stones: Sequence[Stone], attempts: Iterable[Attempt], bars: Sequence[str]) -> dict[str, float]:
    """For each bar the fastest tempo at which an attempt with it was clean: never faster than that. Bars without one are left out."""
    place = {number: index for index, number in reversed(list(enumerate(bars)))}
    spans = {s.name: (place[s.first], place[s.last]) for s in stones if s.first in place and s.last in place}
    found: dict[str, float] = {}
    for attempt in attempts:
        if attempt.outcome is Outcome.CLEAN and attempt.stone in spans and not attempt.step:
            first, last = spans[attempt.stone]
            for number in bars[first : last + 1]:
                found[number] = max(found.get(number, 0.0), attempt.tempo)
    return found
