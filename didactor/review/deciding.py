"""What is proposed as the next step after a take, from all that is known of its task."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable
from typing import Any

from didactor.assignments.models import Assignment, Task
from didactor.core.planning.carrying import Playing
from didactor.core.planning.next_step import History, Next, Proposal, TakeFacts, propose
from didactor.core.planning.tempi import rungs
from didactor.core.practising.crossing import Outcome
from didactor.core.score.roadmap import bars_in_words
from didactor.core.steps.registry import goal, goals
from didactor.core.units import quarters_to_beats_per_minute
from didactor.core.words import worded
from didactor.library.notation import expectation_of_passage
from didactor.practice.models import Attempt
from didactor.practice.music import music_of_stone
from didactor.practice.state import State, state_of
from didactor.review.models import Decision
from didactor.takes.models import Take, TakeState
from didactor.takes.others import takes_of_task

#: The newest takes that are looked at.
TAKES_LOOKED_AT = 8


def proposal_for(take: Take, follows: bool | None = None) -> Proposal | None:
    """The next step after a take; None where nothing is written that could be judged. ``follows``: see ``history_of``."""
    task = take.task
    if task.passage.note_count == 0 or task.assignment.is_listening:
        return None
    return propose(history_of(task, take, follows))


def proposal_shown(take: Take, follows: bool | None = None) -> dict[str, Any] | None:
    """The same for the desk: in words, and as the form's fields have it."""
    found = proposal_for(take, follows)
    if found is None:
        return None
    parts = [
        str(Decision(found.next.value).label),
        bars_in_words(found.bars) if found.bars and found.next in (Next.SHORTER, Next.STEP) else "",
        str(goal(found.step).title).lower() if found.step else "",
        worded("at {tempo:g}", tempo=found.tempo) if found.tempo else "",
        worded("{minutes} minutes a day", minutes=found.minutes) if found.minutes else "",
    ]
    fields = {
        "decision": found.next.value,
        "decision_tempo": f"{found.tempo:g}" if found.tempo else "",
        "decision_bars": found.bars if found.next in (Next.SHORTER, Next.STEP) else "",
        "decision_step": found.step,
        "decision_minutes": str(found.minutes or ""),
    }
    return {"title": ", ".join(part for part in parts if part), "because": found.because, "data": json.dumps(fields)}


def history_of(task: Task, until: Take, follows: bool | None = None) -> History:
    """Takes of a task up to one of them, and its attempts. ``follows``: whether another one of its series is due later, where that is
    known already.
    """
    over = (TakeState.ANALYSED, TakeState.UNUSABLE)
    earlier = [t for t in takes_of_task(until) if t.number < until.number and t.step == until.step and t.state in over]
    bars = tuple(dict.fromkeys(bar.number for bar in expectation_of_passage(task.passage).bars))
    state = state_of(task, with_remedy=False)
    attempts = list(state.attempts) if state else []
    assignment = task.assignment
    return History(
        bars=bars,
        target=assignment.tempo,
        asked=task.asked_tempo,
        takes=[facts_of(take) for take in [*earlier[1 - TAKES_LOOKED_AT :], *([until] if until.state in over else [])]],
        attempts=list(_playings(state, attempts)) if state else (),
        failed=dict(Counter(a.bar for a in attempts if a.bar and a.counts_as is Outcome.FAULT)),
        played=_played(state, attempts) if state else {},
        rungs=sorted({*assignment.ladder, assignment.tempo}) if assignment.ladder else rungs(assignment.tempo),
        steps=_other_steps(task),
        follows=_something_follows(task) if follows is None else follows,
    )


def facts_of(take: Take) -> TakeFacts:
    """What the next step asks of one take, from the summary of what was heard."""
    analysis = take.latest_analysis
    summary = analysis.summary if analysis else {}
    facts = summary.get("facts") or {}
    unit = take.basis.get("beat_unit", "quarter")
    played = summary.get("played_qpm")
    asked = take.basis["targets"]["tempo_qpm"]
    return TakeFacts(
        asked=quarters_to_beats_per_minute(asked, unit),
        played=quarters_to_beats_per_minute(played, unit) if played else None,
        judged=facts.get("judged", 0),
        expected=facts.get("expected", 0),
        faults=facts.get("faults", {}),
        rhythm=facts.get("rhythm", 0),
    )


def _playings(state: State, attempts: Iterable[Attempt]) -> Iterable[Playing]:
    notes = {stone.name: len(music_of_stone(state.task, stone).notes) for stone in state.stones}
    for attempt in attempts:
        if attempt.remedy_id is None and attempt.counts_as in (Outcome.CLEAN, Outcome.FAULT) and attempt.stone in notes:
            yield Playing(
                tempo=attempt.tempo, notes=notes[attempt.stone], faults=int(attempt.counts_as is Outcome.FAULT), stone=attempt.stone
            )


def _played(state: State, attempts: Iterable[Attempt]) -> dict[str, int]:
    """How often each bar was played in attempts."""
    order = {number: k for k, number in enumerate(state.bars)}
    count: Counter[str] = Counter()
    for attempt in attempts:
        stone = state.stone(attempt.stone)
        if stone is not None and attempt.counts_as in (Outcome.CLEAN, Outcome.FAULT):
            count.update(state.bars[order[stone.first] : order[stone.last] + 1])
    return dict(count)


def _other_steps(task: Task) -> list[str]:
    """What else the same bars can be asked for as: clapped, or one hand alone."""
    hands = task.passage.part_entry["staves"] > 1
    return [s.slug for s in goals() if s.slug in ("clap", "right", "left") and s.slug != task.assignment.step and (hands or not s.staff)]


def _something_follows(task: Task) -> bool:
    series, due_at = task.assignment.series_id, task.assignment.due_at
    return series is not None and Assignment.objects.filter(series=series, due_at__gt=due_at).exists()
