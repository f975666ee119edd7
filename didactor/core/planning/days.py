"""Which stones today, in which order, for how many minutes: planned anew after every day, so that nothing is ever “missed”.

An open stone gets the minutes that its own growth asks for, the weakest first and few at a time: work lies at the front, since pacing
evenly towards the due date leaves no days to mend. A firm stone comes back for a minute after 1, 2, 4 … days (spaced returns: Cepeda et
al. 2006), and on the last two days before it is asked for.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

#: Learning slows down within a sitting: a stone's growth in m minutes is ``6 k (1 - exp(-m / 6))``, k the growth of the first minute.
SLOWS_MIN = 6.0
#: What is planned is somewhat more than the growth alone asks for; a stone gets at least and at most so many minutes a day.
MARGIN, LEAST_MIN, MOST_MIN = 1.3, 2, 10
#: Growth of the first minute before anything is measured, and how much a new day changes it.
USUAL_GAIN, NEW_SHARE = 0.12, 0.4
RETURN_MIN, LAST_MIN, LAST_DAYS = 1, 2, 2
#: Beyond so many days a forecast says nothing.
LONGEST_DAYS = 60


@dataclass(frozen=True, slots=True, kw_only=True)
class StoneNow:
    """A stone as the plan sees it. ``strength``: 0 to 1, firm at 1; ``gain``: measured growth of a first minute, None before; ``box``: how
    often it came back firm; ``due``: when it is to come back.
    """

    name: str
    strength: float
    firm: bool = False
    gain: float | None = None
    box: int = 0
    due: date | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Portion:
    """One stone of today's plan. ``why``: ``open`` or ``return``."""

    name: str
    minutes: int
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Day:
    """``rehearsal``: the dress rehearsal stands on this day; ``free``: nobody practises today."""

    day: date
    portions: tuple[Portion, ...]
    rehearsal: bool = False
    free: bool = False

    @property
    def minutes(self) -> int:
        return sum(p.minutes for p in self.portions)


def strength_of(tally: int, need: int, tempo: float, target: float, firm: bool) -> float:
    """How near a stone is to being firm: half by the tempo it is at, half by its count there."""
    if firm:
        return 1.0
    return min(0.95, 0.5 * min(1.0, tempo / target) ** 2 + 0.5 * tally / max(1, need)) if target > 0 else 0.0


def new_gain(old: float | None, grown: float, minutes: float) -> float | None:
    """The growth of a first minute after a day with ``minutes`` on a stone that grew by ``grown``; the old one where nothing was done."""
    if minutes < 0.5:
        return old
    measured = max(0.01, grown / (SLOWS_MIN * (1 - math.exp(-minutes / SLOWS_MIN))))
    return measured if old is None else (1 - NEW_SHARE) * old + NEW_SHARE * measured


def minutes_for(gap: float, gain: float | None) -> int:
    """Minutes that an open stone is given today, for what it lacks."""
    k = max(0.01, gain if gain is not None else USUAL_GAIN)
    asked = MARGIN * -SLOWS_MIN * math.log(max(0.08, 1 - gap / (SLOWS_MIN * k)))
    return round(min(MOST_MIN, max(LEAST_MIN, asked)))


def next_return(today: date, box: int) -> date:
    """When a stone that held again comes back."""
    return today + timedelta(days=2 ** min(box, 5))


def plan_day(
    stones: Sequence[StoneNow],
    today: date,
    due: date,
    minutes: int,
    *,
    order: Sequence[str] = (),
    days_off: Collection[int] = (),
    final: bool = False,
) -> Day:
    """What is done today.

    Args:
        stones: the work of the passage; joins only once both their sides are firm.
        minutes: of a day, never more.
        order: names of the stones in the task's order; without one the weakest comes first.
        days_off: days of the week without practice, Monday is 0.
        final: the day before ``due`` has the dress rehearsal.
    """
    if today.weekday() in days_off:
        return Day(day=today, portions=(), free=True)
    left, portions = minutes, []
    last_days = 0 <= (due - today).days <= LAST_DAYS
    for stone in (s for s in stones if s.firm):
        if left >= RETURN_MIN and (last_days or (stone.due is not None and stone.due <= today)):
            given = min(left, LAST_MIN if last_days else RETURN_MIN)
            portions.append(Portion(name=stone.name, minutes=given, why="return"))
            left -= given
    place = {name: k for k, name in enumerate(order)}
    waiting = sorted((s for s in stones if not s.firm), key=lambda s: (place.get(s.name, len(place)), s.strength))
    portions += _shared(waiting[: max(1, left // LEAST_MIN)], left)
    rehearsal = final and today == due - timedelta(days=1)
    return Day(day=today, portions=tuple(portions), rehearsal=rehearsal)


def _shared(stones: Sequence[StoneNow], minutes: int) -> list[Portion]:
    """Minutes for stones that are open: what each one asks for or, where that is too much, minute by minute to the one that gains most by
    it. The first minutes of a sitting are worth most, so few stones go without.
    """
    wanted = {s.name: minutes_for(1.0 - s.strength, s.gain) for s in stones}
    given = dict.fromkeys(wanted, 0)
    left = minutes
    for stone in stones:
        given[stone.name] = min(LEAST_MIN, wanted[stone.name], left)
        left -= given[stone.name]
    while left > 0:
        open_ones = [s for s in stones if given[s.name] < wanted[s.name]]
        if not open_ones:
            break
        best = max(open_ones, key=lambda s: (s.gain or USUAL_GAIN) * math.exp(-given[s.name] / SLOWS_MIN))
        given[best.name] += 1
        left -= 1
    return [Portion(name=name, minutes=count, why="open") for name, count in given.items() if count]


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """When all stones will be firm: the likely day, and between which ones."""

    day: date
    earliest: date
    latest: date


def forecast(
    stones: Sequence[StoneNow], today: date, minutes: int, measured_days: int, *, days_off: Collection[int] = ()
) -> Forecast | None:
    """From the measured growth; None where too little is measured, or it lies beyond what can be told."""
    open_ones = [s for s in stones if not s.firm]
    gains = [s.gain for s in stones if s.gain is not None]
    if measured_days < 3 or not open_ones or len(gains) < 2 or minutes <= 0 or len(set(days_off)) >= 7:
        return None
    usual = sum(gains) / len(gains)
    days = [_days(open_ones, usual, today, minutes, days_off, pace) for pace in (1.25, 1.0, 0.7)]
    if any(found is None for found in days):
        return None
    early, likely, late = (d for d in days if d is not None)
    return Forecast(day=likely, earliest=early, latest=late)


def _days(stones: Sequence[StoneNow], usual: float, today: date, minutes: int, days_off: Collection[int], pace: float) -> date | None:
    """The day on which the last stone is firm, growing at ``pace`` times what was measured."""
    gaps = {s.name: 1.0 - s.strength for s in stones}
    gain = {s.name: pace * (s.gain if s.gain is not None else usual) for s in stones}
    for k in range(LONGEST_DAYS):
        day = today + timedelta(days=k)
        if day.weekday() in days_off:
            continue
        left = float(minutes)
        for name in [n for n in gaps if gaps[n] > 0]:
            given = min(left, float(minutes_for(gaps[name], gain[name])))
            if given < 1:
                break
            gaps[name] = max(0.0, gaps[name] - SLOWS_MIN * gain[name] * (1 - math.exp(-given / SLOWS_MIN)))
            left -= given
        if all(gap <= 1e-6 for gap in gaps.values()):
            return day
    return None
