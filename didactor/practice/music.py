"""What an attempt is heard against: the bars of its stone, or of a remedy's exercise, at the tempo it was counted off at."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

from didactor.assignments.models import Task
from didactor.core.practising.attempt import Asked
from didactor.core.practising.crossing import Outcome, Stone
from didactor.core.practising.remedies import Exercise, music_of
from didactor.core.practising.verdict import Verdict, doubtful_notes
from didactor.core.score.expected import Expectation, of_staff
from didactor.core.units import beats_to_quarters_per_minute
from didactor.library.desk import choices_for
from didactor.library.notation import expectation_of, read_part
from didactor.practice.models import Attempt


@lru_cache(maxsize=64)
def _music(revision_id: int, part: int, bars: str, order: str, staff: int | None) -> Expectation:
    return of_staff(expectation_of(revision_id=revision_id, part=part, bars=bars, order=order), staff)


def music_of_stone(task: Task, stone: Stone) -> Expectation:
    """The notes of a stone; the whole is played in the passage's own order. Raises ``PassageError``."""
    order = task.passage.order if stone.kind.value == "whole" else ""
    return _music(task.passage.revision_id, task.passage.part, stone.bars, order, task.targets.staff)


def music_of_exercise(task: Task, exercise: Exercise) -> Expectation:
    """The notes of a remedy's exercise. Raises ``PassageError``."""
    staff = exercise.staff if exercise.staff is not None else task.targets.staff
    bars = exercise.bars or task.passage.bars
    return music_of(exercise, _music(task.passage.revision_id, task.passage.part, bars, exercise.order or "", staff))


def asked_of(attempt: Attempt, stone: Stone, counts: str) -> Asked:
    """Everything the ear needs for an attempt. Raises ``PassageError``."""
    task = attempt.task
    targets = task.targets
    part = None
    if attempt.remedy is not None:
        exercise = attempt.remedy.as_exercise
        music = music_of_exercise(task, exercise)
        targets = replace(targets, step=exercise.step if exercise.step != "play" else targets.step)
        counts = "rhythm" if exercise.step == "clap" else "notes"
    else:
        music, part = music_of_stone(task, stone), read_part(task.passage.revision_id, task.passage.part)
    return Asked(
        music=music,
        part=part,
        targets=replace(targets, **choices_for(task.passage)),
        qpm=beats_to_quarters_per_minute(attempt.tempo, task.assignment.beat_unit),
        start_s=attempt.start_s,
        counts=counts,
        leave_out=doubtful_notes([_as_verdict(a) for a in _before(attempt)]),
    )


def _before(attempt: Attempt) -> list[Attempt]:
    """The last attempts at the same, the oldest first."""
    same = Attempt.objects.for_crossing().filter(task=attempt.task, stone=attempt.stone, remedy=attempt.remedy)
    return list(same.filter(made_at__lt=attempt.made_at).exclude(outcome=Outcome.UNHEARD.value).reverse()[:3])[::-1]


def _as_verdict(attempt: Attempt) -> Verdict:
    return Verdict(outcome=Outcome(attempt.outcome), doubtful=tuple(attempt.doubtful))
