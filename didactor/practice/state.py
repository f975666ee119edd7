"""Where a task's crossing stands: read from its attempts, for pages and for the next attempt."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.utils import timezone

from didactor.assignments.crossing import CrossingSettings, bars_played, crossing_settings, segments_of
from didactor.assignments.models import Task
from didactor.core.planning.tempi import rungs
from didactor.core.practising.crossing import Attempt as Counted
from didactor.core.practising.crossing import Crossing, Kind, Order, Outcome, Stone, clean_tempo_of_bars, crossing, stones_of
from didactor.core.score.roadmap import bars_in_words
from didactor.core.score.study.payoff import weights
from didactor.core.words import worded
from didactor.library.notation import read_part
from didactor.library.study import difficulty_of
from didactor.practice.models import Attempt, Remedy


@dataclass(frozen=True, kw_only=True)
class State:
    """A task's crossing as it stands now. ``attempts`` are those at its stones and remedies; ``practised`` has the drills too."""

    task: Task
    settings: CrossingSettings
    stones: tuple[Stone, ...]
    crossing: Crossing
    attempts: tuple[Attempt, ...]
    practised: tuple[Attempt, ...]
    rungs: tuple[int, ...]
    remedy: Remedy | None
    bars: tuple[str, ...]

    @property
    def at(self) -> Stone | None:
        return self.crossing.at

    @property
    def clean_tempi(self) -> dict[str, float]:
        """“Never faster than clean”: for each bar the fastest tempo at which it was faultless."""
        return clean_tempo_of_bars(self.stones, map(counted, self.attempts), self.bars)

    def stone(self, name: str) -> Stone | None:
        return next((s for s in self.stones if s.name == name), None)


def counted(attempt: Attempt) -> Counted:
    """A row as the core counts it."""
    day = timezone.localdate(attempt.made_at).toordinal()
    return Counted(stone=attempt.stone, outcome=attempt.counts_as, tempo=attempt.tempo, day=day, step="remedy" if attempt.remedy_id else "")


def state_of(task: Task, with_remedy: bool = True) -> State | None:
    """None where the task is not practised as a crossing. ``with_remedy``: with the exercise that waits, if one does."""
    if crossing_settings(task) is None:
        return None
    remedy = next((r for r in task.remedies.order_by("-made_at") if r.is_open), None) if with_remedy else None
    return _state(task, list(task.attempts.over().select_related("remedy")), remedy)


def _state(task: Task, practised: Sequence[Attempt], remedy: Remedy | None) -> State | None:
    chosen = crossing_settings(task)
    attempts = [a for a in practised if a.drill_id is None]
    if chosen is None:
        return None
    numbers = bars_played(task.passage)
    hardness = _worth(task, attempts) if chosen.order is Order.HARDEST_FIRST else {}
    stones = stones_of(segments_of(task, chosen.bars), numbers, hardness)
    if not stones:
        return None
    ladder = tuple(tempo for tempo in rungs(chosen.tempo, task.assignment.ladder) if tempo <= round(chosen.tempo))
    begin = task.assignment.ladder[0] if task.assignment.ladder else None
    found = crossing(stones, [counted(a) for a in attempts], chosen.rule, chosen.order, ladder, begin)
    return State(
        task=task,
        settings=chosen,
        stones=tuple(stones),
        crossing=found,
        attempts=tuple(attempts),
        practised=tuple(practised),
        rungs=ladder,
        remedy=remedy,
        bars=numbers,
    )


@dataclass(frozen=True, kw_only=True)
class Summary:
    """A task's practice in a line of a list."""

    firm: int
    stones: int
    minutes: int
    at: str
    remedy: str
    carries: bool


def summaries(tasks: Sequence[Task]) -> dict[int, Summary]:
    """How far practice has come, by task; nothing for tasks that are not practised so, or not begun."""
    by_task: dict[int, list[Attempt]] = {}
    for attempt in Attempt.objects.over().filter(task__in=[task.pk for task in tasks]).select_related("remedy"):
        by_task.setdefault(attempt.task_id, []).append(attempt)
    last = {remedy.task_id: remedy for remedy in Remedy.objects.filter(task__in=by_task).order_by("made_at")}
    found = {}
    for task in tasks:
        attempts = by_task.get(task.pk)
        state = _state(task, attempts, None) if attempts else None
        if state is None or not attempts:
            continue
        at = state.at
        found[task.pk] = Summary(
            firm=state.crossing.firm,
            stones=len(state.stones),
            minutes=minutes_played(attempts),
            at="" if at is None else (worded("the whole") if at.kind is Kind.WHOLE else bars_in_words(at.bars)),
            remedy=str(last[task.pk]) if task.pk in last else "",
            carries=state.crossing.carries,
        )
    return found


def hardness_of(task: Task) -> dict[str, float]:
    """How hard each bar is against the hardest."""
    bars = difficulty_of(task.passage, task.targets.middle_qpm).bars
    most = max((bar.value for bar in bars), default=0.0) or 1.0
    return {bar.number: bar.value / most for bar in bars}


def failed_in(attempts: Sequence[Attempt]) -> dict[str, int]:
    """How often something went wrong in each bar."""
    return dict(Counter(a.bar for a in attempts if a.bar and a.counts_as is Outcome.FAULT))


def _worth(task: Task, attempts: Sequence[Attempt]) -> dict[str, float]:
    """The order in which the hardest come first: what is hard, comes back and fails."""
    part = read_part(task.passage.revision_id, task.passage.part)
    return weights(part, hardness_of(task), failed_in(attempts))


def tally_of_remedy(remedy: Remedy) -> int:
    """Faultless ones in a row of its exercise; of three slow ones that are to tell what it is, those that were played."""
    outcomes = [a.counts_as for a in remedy.attempts.for_crossing() if a.counts_as in (Outcome.CLEAN, Outcome.FAULT)]
    if remedy.finds_out:
        return len(outcomes)
    count = 0
    for outcome in reversed(outcomes):
        if outcome is not Outcome.CLEAN:
            break
        count += 1
    return count


def minutes_played(attempts: Sequence[Attempt]) -> int:
    """Minutes of practice that attempts stand for: what was played, and the time between two of them up to a minute."""
    seconds, last = 0.0, None
    for attempt in sorted(attempts, key=lambda a: a.made_at):
        gap = (attempt.made_at - last).total_seconds() if last else 60.0
        seconds += attempt.seconds + min(60.0, max(0.0, gap - attempt.seconds)) * (1 if last else 0)
        last = attempt.made_at
    return round(seconds / 60)


def as_data(state: State) -> dict[str, Any]:
    """What the browser draws: stones with their counts, the one at work and what is played next."""
    found = state.crossing
    return {
        "stones": [
            {
                "name": stone.name,
                "kind": stone.kind.value,
                "first": stone.first,
                "last": stone.last,
                "tally": found.standings[stone.name].tally,
                "need": found.standings[stone.name].need,
                "firm": found.standings[stone.name].firm,
                "shaken": found.standings[stone.name].shaken,
                "unheard": found.standings[stone.name].unheard,
            }
            for stone in found.stones
        ],
        "at": state.at.name if state.at else "",
        "carries": found.carries,
        "tempo": found.standings[state.at.name].tempo if state.at else state.settings.tempo,
        "slower": bool(state.at and found.standings[state.at.name].slower),
        "clean": state.clean_tempi,
        "says": in_words(state),
    }


def in_words(state: State) -> str:
    """What is at work, in a line."""
    if state.at is None:
        return worded("All of it carries. One clean run of the whole is done.")
    standing, stone = state.crossing.standings[state.at.name], state.at
    bars = bars_in_words(stone.bars)
    what = {
        "own": worded("Stone {bars}", bars=bars),
        "join": worded("Join {bars}", bars=bars),
        "whole": worded("The whole, once without a fault"),
    }[stone.kind.value]
    if standing.shaken:
        return worded("{what} lost its hold: once more without a fault.", what=what)
    if standing.slower or standing.tempo < state.rungs[-1]:
        return worded("{what}, at {tempo:g}: two clean ones lead up again.", what=what, tempo=standing.tempo)
    left = standing.need - standing.tally
    return (
        worded("{what}: {left} more without a fault.", what=what, left=left)
        if standing.tally and left
        else worded("{what}, {rule}.", what=what, rule=state.settings.rule.in_words)
    )
