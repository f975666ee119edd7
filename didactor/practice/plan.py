"""Today's work at a crossing, from its attempts, the household's habit and the date it is due."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from django.utils import timezone
from django.utils.formats import date_format

from didactor.core.planning.days import Day, Forecast, StoneNow, forecast, new_gain, next_return, plan_day, strength_of
from didactor.core.practising.crossing import Kind, Outcome, Stone, standing
from didactor.core.words import worded
from didactor.practice.models import Attempt, Habit
from didactor.practice.state import State, counted, minutes_played

#: Minutes a day where neither the teacher nor the household said anything.
USUAL_MINUTES = 15


@dataclass(frozen=True, kw_only=True)
class Portion:
    stone: Stone
    minutes: int
    why: str
    tempo: float

    @property
    def bars(self) -> str:
        stone = self.stone
        return (
            worded("Bar {first}", first=stone.first)
            if stone.first == stone.last
            else worded("Bars {first}–{last}", first=stone.first, last=stone.last)
        )


@dataclass(frozen=True, kw_only=True)
class Today:
    """What is planned for a day; ``left``: the portions whose minutes were not played yet."""

    day: Day
    portions: tuple[Portion, ...]
    minutes: int
    played: int
    forecast: Forecast | None
    rehearsal_on: date | None
    performs_on: date | None

    @property
    def forecast_in_words(self) -> str:
        if self.forecast is None:
            return ""
        found, today = self.forecast, self.day.day
        at = _day_in_words(found.day, today, with_on=True)
        if found.earliest == found.latest:
            return worded("At this pace all of it carries {day}.", day=at)
        return worded(
            "At this pace all of it carries {day} ({earliest} to {latest}).",
            day=at,
            earliest=_day_in_words(found.earliest, today),
            latest=_day_in_words(found.latest, today),
        )


def _day_in_words(day: date, today: date, with_on: bool = False) -> str:
    """“today”, “tomorrow”, “on Thursday”; beyond a week with its date."""
    away = (day - today).days
    if away < 1:
        return worded("today")
    if away < 2:
        return worded("tomorrow")
    said = date_format(day, worded("l") if away < 7 else worded("l j F"))
    return worded("on {day}", day=said) if with_on else said


def habit_of(state: State) -> Habit:
    """The household's habit, or what is usual; one that was never set is not kept."""
    found: Habit | None = getattr(state.task.enrolment, "habit", None)
    return found or Habit(enrolment=state.task.enrolment, minutes=state.task.assignment.minutes or USUAL_MINUTES)


def today_of(state: State, today: date | None = None) -> Today:
    """The plan of a day. It is made anew each time it is looked at: nothing is missed, it is only planned anew."""
    today = today or timezone.localdate()
    habit, assignment, group = habit_of(state), state.task.assignment, state.task.enrolment.group
    minutes = min(habit.minutes, assignment.minutes or habit.minutes)
    due, final = planned_towards(state, today)
    everything = {stone.name: as_planned(state, stone, today) for stone in state.crossing.stones}
    stones = [everything[stone.name] for stone in _workable(state)]
    day = plan_day(stones, today, due, minutes, order=_order(state), days_off=habit.days_off, final=final)
    by_name = {stone.name: stone for stone in state.stones}
    standings = state.crossing.standings
    days = {timezone.localdate(a.made_at) for a in state.attempts}
    return Today(
        day=day,
        portions=tuple(Portion(stone=by_name[p.name], minutes=p.minutes, why=p.why, tempo=standings[p.name].tempo) for p in day.portions),
        minutes=minutes,
        played=minutes_played([a for a in state.practised if timezone.localdate(a.made_at) == today]),
        forecast=forecast(list(everything.values()), today, minutes, len(days), days_off=habit.days_off),
        rehearsal_on=due - timedelta(days=1) if final else None,
        performs_on=group.performs_on if group and group.performs_on and group.performs_on >= today else None,
    )


def planned_towards(state: State, today: date) -> tuple[date, bool]:
    """The next of the task's due date and the group's performance, and whether the day before it is a dress rehearsal."""
    due, group = timezone.localdate(state.task.due_at), state.task.enrolment.group
    performs_on = group.performs_on if group else None
    if performs_on is not None and performs_on >= today and not today <= due < performs_on:
        return performs_on, True
    return due, state.task.assignment.stage in ("final", "rehearsal")


def _workable(state: State) -> list[Stone]:
    """Stones, and joins and the whole once what they join is firm."""
    standings = state.crossing.standings
    return [s for s in state.crossing.stones if s.kind is Kind.OWN or all(standings[side].firm for side in s.sides)]


def _order(state: State) -> Sequence[str]:
    """The task's own order; where the hardest come first the weakest do."""
    return () if state.settings.order == "hardest_first" else [s.name for s in state.crossing.stones]


def as_planned(state: State, stone: Stone, today: date) -> StoneNow:
    """A stone as the plan sees it, with what it grew by on the days before."""
    attempts = [a for a in state.attempts if a.stone == stone.name]
    now = state.crossing.standings[stone.name]
    gain, before = None, 0.0
    box, held_on = 0, None
    for day in sorted({timezone.localdate(a.made_at) for a in attempts}):
        until = [counted(a) for a in attempts if timezone.localdate(a.made_at) <= day]
        then = standing(until, state.settings.rule, state.rungs, whole=stone.kind is Kind.WHOLE)
        strength = strength_of(then.tally, then.need, then.tempo, state.rungs[-1], then.firm)
        own = [a for a in attempts if timezone.localdate(a.made_at) == day]
        if day < today:
            gain = new_gain(gain, strength - before, minutes_played(own))
        held = then.firm and any(a.counts_as is Outcome.CLEAN for a in own)
        box, held_on = (box + 1, day) if held else (box if then.firm else 0, held_on if then.firm else None)
        before = strength
    strength = strength_of(now.tally, now.need, now.tempo, state.rungs[-1], now.firm)
    due = next_return(held_on, max(0, box - 1)) if held_on else None
    return StoneNow(name=stone.name, strength=strength, firm=now.firm, gain=gain, box=box, due=due)


def minutes_by_day(attempts: Sequence[Attempt]) -> list[tuple[date, int, int]]:
    """Days with minutes and attempts, the newest first: the log that keeps itself."""
    days = sorted({timezone.localdate(a.made_at) for a in attempts}, reverse=True)
    found = []
    for day in days:
        own = [a for a in attempts if timezone.localdate(a.made_at) == day]
        found.append((day, minutes_played(own), len(own)))
    return found
