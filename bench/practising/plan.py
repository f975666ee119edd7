"""Students who grow, forget and stay away: a plan against the same minutes split evenly. Models of our own."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import numpy as np

from didactor.core.planning.days import SLOWS_MIN, StoneNow, new_gain, next_return, plan_day

PLANS = 1000


@dataclass
class Learner:
    """A model of our own: skill of each stone 0 to 1.1, growth that slows within a sitting, forgetting that slows with returns."""

    rng: np.random.Generator
    skill: list[float]
    gain: list[float]
    forgets: float
    stays_away: float
    held: list[int]

    def practise(self, stone: int, minutes: float) -> None:
        noise = float(self.rng.lognormal(0, 0.25))
        self.skill[stone] = min(1.15, self.skill[stone] + noise * SLOWS_MIN * self.gain[stone] * (1 - np.exp(-minutes / SLOWS_MIN)))

    def sleep(self) -> None:
        for k in range(len(self.skill)):
            self.skill[k] *= 1 - self.forgets / (1 + 0.7 * self.held[k])


def learner(seed: tuple[int, ...]) -> Learner:
    rng = np.random.default_rng(seed)
    count = int(rng.integers(4, 9))
    pace = float(rng.lognormal(np.log(0.07), 0.4))
    return Learner(
        rng=rng,
        skill=[float(rng.uniform(0.1, 0.6)) for _ in range(count)],
        gain=[pace * float(rng.lognormal(0, 0.3)) for _ in range(count)],
        forgets=float(rng.uniform(0.01, 0.06)),
        stays_away=float(rng.uniform(0.0, 0.3)),
        held=[0] * count,
    )


#: A stone is played faultlessly three times from here on, and still carries the passage from here on.
FIRM_SKILL, HOLDS_SKILL = 1.0, 0.9
DAYS, A_DAY = 14, 15
BEGUN = date(2026, 3, 2)


@dataclass(frozen=True, kw_only=True)
class Course:
    """``reached``: the day on which all stones held for the first time, None if never; ``holds``: their share on the day itself."""

    reached: int | None
    holds: float
    minutes: float
    over: int
    slowest_s: float


def even_split(who: Learner, away: np.ndarray) -> Course:
    reached, minutes = None, 0.0
    for k in range(DAYS):
        if not away[k]:
            for i in range(len(who.skill)):
                who.practise(i, A_DAY / len(who.skill))
                who.held[i] += who.skill[i] >= FIRM_SKILL
            minutes += A_DAY
        if reached is None and min(who.skill) >= HOLDS_SKILL:
            reached = k
        who.sleep()
    return Course(reached=reached, holds=_holding(who), minutes=minutes, over=0, slowest_s=0.0)


def as_planned(who: Learner, away: np.ndarray) -> Course:
    due = BEGUN + timedelta(days=DAYS)
    stones = [StoneNow(name=str(k), strength=0.0) for k in range(len(who.skill))]
    reached, minutes, over, slowest = None, 0.0, 0, 0.0
    for k in range(DAYS):
        today = BEGUN + timedelta(days=k)
        stones = [replace(s, strength=1.0 if s.firm else min(0.95, who.skill[i])) for i, s in enumerate(stones)]
        begun = time.perf_counter()
        day = plan_day(stones, today, due, A_DAY)
        slowest, over = max(slowest, time.perf_counter() - begun), max(over, day.minutes - A_DAY)
        for portion in () if away[k] else day.portions:
            i = int(portion.name)
            stone, before = stones[i], who.skill[i]
            who.practise(i, portion.minutes)
            minutes += portion.minutes
            if who.skill[i] >= FIRM_SKILL:
                who.held[i] += 1
                stones[i] = replace(stone, firm=True, box=stone.box + 1, due=next_return(today, stone.box))
            else:
                stones[i] = replace(stone, firm=False, gain=new_gain(stone.gain, who.skill[i] - before, portion.minutes), box=0)
        if reached is None and min(who.skill) >= HOLDS_SKILL:
            reached = k
        who.sleep()
    return Course(reached=reached, holds=_holding(who), minutes=minutes, over=over, slowest_s=slowest)


def _holding(who: Learner) -> float:
    return sum(skill >= HOLDS_SKILL for skill in who.skill) / len(who.skill)


def one_student(base: int, number: int) -> tuple[Course, Course]:
    """The same student with a plan and with the minutes split evenly."""
    who = learner((base, 3, number))
    away = np.random.default_rng((base, 4, number)).random(DAYS) < who.stays_away
    return as_planned(who, away), even_split(learner((base, 3, number)), away)


def plan(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    found = each(one_student, [(base, k) for k in range(PLANS)])
    never = DAYS + 1
    day, day_even = ([c.reached if c.reached is not None else never for c in course] for course in zip(*found, strict=True))
    saved = [100 * (1 - p.minutes / e.minutes) for p, e in found if e.minutes]
    reach, reach_even = (100 * sum(d < never for d in days) / PLANS for days in (day, day_even))
    rows = [
        "| | planned | the minutes split evenly |",
        "|---|---|---|",
        f"| students all of whose stones held once, % | {reach:.1f} | {reach_even:.1f} |",
        f"| day of that, median | {statistics.median(day) + 1:.0f} | {statistics.median(day_even) + 1:.0f} |",
        f"| stones that hold on the day, % | {100 * statistics.mean(p.holds for p, _ in found):.1f} "
        f"| {100 * statistics.mean(e.holds for _, e in found):.1f} |",
        "| minutes, median | " + " | ".join(f"{statistics.median(pair[k].minutes for pair in found):.0f}" for k in (0, 1)) + " |",
    ]
    figures = {
        "plan_no_later_percent": round(100 * sum(a <= b for a, b in zip(day, day_even, strict=True)) / PLANS, 1),
        "plan_holds_percent": round(100 * statistics.mean(p.holds for p, _ in found), 1),
        "minutes_saved_median_percent": round(statistics.median(saved), 1),
        "minutes_over": max(p.over for p, _ in found),
        "planning_most_ms": round(1000 * max(p.slowest_s for p, _ in found), 2),
    }
    return rows, figures, []
