"""Attempts come in, or are judged by a helper; a remedy is taken up, done or put aside."""

from __future__ import annotations

import fcntl
import os
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from functools import partial
from typing import Any

from django.core.files.storage import default_storage
from django.db import transaction
from django.utils import timezone

from didactor.assignments.models import Task, TaskState
from didactor.assignments.services import move_task
from didactor.core.words import worded
from didactor.people.models import Enrolment, Person
from didactor.practice.drilling import drill_in, judge_touches, row_of
from didactor.practice.hearing import forget_left, settle, what_follows
from didactor.practice.jobs import hear_attempt
from didactor.practice.models import Attempt, Drill, Habit, OutcomeChoices, Remedy
from didactor.practice.samples import forget_samples, hand_over
from didactor.practice.state import State, state_of

#: The longest attempt, and the sample rates that browsers record with.
LONGEST_S, LOWEST_RATE, HIGHEST_RATE = 190.0, 8_000, 192_000
#: Attempts of a student that are begun and not ended at one time, on all devices; older ones were left.
MOST_OPEN = 4
#: The most minutes a day that a household agrees on.
MOST_MINUTES = 240
#: What a device that was without a connection may still bring.
LATEST = timedelta(days=14)


class AttemptRefused(Exception):
    """An attempt that is not allowed, or that makes no sense; the words say why."""


class OutOfStep(Exception):
    """A piece that does not follow what is there; ``size`` is how many bytes are."""

    def __init__(self, size: int) -> None:
        super().__init__(size)
        self.size = size


@dataclass(frozen=True, kw_only=True)
class Begun:
    """What a device says of an attempt that it begins. ``ago_s``: how long ago that was, where it comes later; ``drill``: its kind and
    what it is of, where it is no stone's; ``prompt``: what was asked for in it.
    """

    id: uuid.UUID
    stone: str
    tempo: float
    rate: int = 0
    start_s: float = 0.0
    remedy: int | None = None
    trial: bool = False
    ago_s: float = 0.0
    drill: tuple[str, str] | None = None
    prompt: str = ""


def _check_is_theirs(student: Person, task: Task) -> None:
    if task.enrolment.student_id != student.pk:
        raise AttemptRefused(worded("Only the student practises this."))
    if task.withdrawn_at is not None:
        raise AttemptRefused(worded("Your teacher has taken this passage back: nothing more is expected here."))


def check_may_practise(student: Person, task: Task) -> State:
    """The crossing of a student's own task. Raises ``AttemptRefused`` where nothing can be practised."""
    _check_is_theirs(student, task)
    state = None if task.is_sealed else state_of(task)
    if state is None:
        raise AttemptRefused(worded("This is not practised in stones."))
    return state


def begin_attempt(*, student: Person, task: Task, begun: Begun) -> Attempt:
    """An attempt that is about to be played. The same one twice is one.

    Raises ``AttemptRefused``.
    """
    _check_is_theirs(student, task)
    if student.consent_missing:
        raise AttemptRefused(worded("A guardian’s consent is needed before the first recording: on their own page, or by your teacher."))
    if not LOWEST_RATE <= begun.rate <= HIGHEST_RATE:
        raise AttemptRefused(worded("This device records in a way that cannot be heard. Try another browser."))
    attempt = _make(task, begun, **(_at_stone(student, task, begun) if begun.drill is None else {"drill": _drill_row(task, begun.drill)}))
    forget_left(Attempt.objects.filter(task__enrolment__student=student, ended=False).order_by("-made_at", "pk")[MOST_OPEN:])
    return attempt


def _at_stone(student: Person, task: Task, begun: Begun) -> dict[str, Any]:
    state = check_may_practise(student, task)
    stone = state.stone(begun.stone)
    remedy = task.remedies.filter(pk=begun.remedy).first() if begun.remedy is not None else None
    if stone is None or (begun.remedy is not None and remedy is None):
        raise AttemptRefused(worded("Your teacher has cut this passage anew. Open the page again."))
    return {"stone": stone.name, "bars": stone.bars, "remedy": remedy}


def _drill_row(task: Task, drill: tuple[str, str]) -> Drill:
    found = drill_in(task, *drill)
    if found is None:
        raise AttemptRefused(worded("The passage has changed: this drill is there no more. Go back to the drills."))
    return row_of(task, found)


def _make(task: Task, begun: Begun, **fields: Any) -> Attempt:
    made_at = timezone.now() - min(LATEST, timedelta(seconds=max(0.0, begun.ago_s)))
    values = {
        "tempo": begun.tempo,
        "rate": begun.rate,
        "start_s": begun.start_s,
        "trial": begun.trial,
        "prompt": begun.prompt,
        "made_at": made_at,
        **fields,
    }
    with transaction.atomic():
        attempt, made = Attempt.objects.get_or_create(pk=begun.id, defaults={"task": task, **values})
        if attempt.task_id != task.pk:
            raise AttemptRefused(worded("This attempt belongs to something else."))
        if made and task.state == TaskState.OPEN:
            move_task(task, TaskState.IN_WORK)
    return attempt


def add_piece(attempt: Attempt, offset: int, body: bytes) -> int:
    """The next samples of an attempt; what is there already is not written twice. Returns how many bytes there are.

    Raises:
        OutOfStep: a piece is missing before this one.
        AttemptRefused: it is over, or longer than an attempt can be.
    """
    most = int(LONGEST_S * attempt.rate) * 2
    path = attempt.samples_path
    if attempt.ended:
        return path.stat().st_size if path.exists() else offset + len(body)
    path.parent.mkdir(parents=True, exist_ok=True)
    with open(os.open(path, os.O_RDWR | os.O_CREAT, 0o600), "r+b") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        size = file.seek(0, os.SEEK_END)
        if offset > size:
            raise OutOfStep(size)
        fresh = body[size - offset :]
        if size + len(fresh) > most:
            raise AttemptRefused(worded("An attempt lasts three minutes at most. For the whole piece, record a take."))
        file.write(fresh)
        return size + len(fresh)


def end_unheard(attempt: Attempt) -> Attempt:
    """It is over, and nobody could listen while it was played: it is heard later, and counts then."""
    with transaction.atomic():
        kept = Attempt.objects.select_for_update(of=("self",)).get(pk=attempt.pk)
        if not kept.ended:
            kept.ended = True
            path = kept.samples_path
            kept.seconds = path.stat().st_size / 2 / max(1, kept.rate) if path.exists() else 0.0
            kept.save(update_fields=["ended", "seconds"])
            hand_over(kept)
            hear_attempt.defer(attempt_id=str(kept.pk))
    return kept


def judged_by_hand(*, student: Person, task: Task, begun: Begun, clean: bool) -> Attempt:
    """The helper has listened and says what it was. Raises ``AttemptRefused``."""
    outcome = OutcomeChoices.CLEAN if clean else OutcomeChoices.FAULT
    attempt = _make(task, begun, **_at_stone(student, task, begun), by_hand=True, ended=True, outcome=outcome, code="by_hand")
    what_follows(attempt)
    return attempt


def touched(*, student: Person, task: Task, begun: Begun, touches: Sequence[tuple[float, str]]) -> Attempt:
    """Names were touched in time; the same go twice is one. Raises ``AttemptRefused``."""
    _check_is_theirs(student, task)
    drill = drill_in(task, *begun.drill) if begun.drill else None
    if drill is None or not drill.touched:
        raise AttemptRefused(worded("The passage has changed: this drill is there no more. Go back to the drills."))
    found = judge_touches(task, drill, begun.tempo, touches)
    length_s = len(drill.touched) * 60.0 / begun.tempo
    return settle(_make(task, begun, drill=row_of(task, drill)), found, length_s)


def take_back(*, student: Person, task: Task, attempt_id: uuid.UUID) -> None:
    """The helper pressed the wrong button: an attempt judged by hand goes."""
    Attempt.objects.filter(pk=attempt_id, task=task, task__enrolment__student=student, by_hand=True).delete()


def answer_remedy(*, student: Person, task: Task, remedy_id: int, answer: str) -> None:
    """``take``: it is being done; ``done``: ticked off (fingers without a sound); ``aside``: not now."""
    remedy = task.remedies.filter(pk=remedy_id, task__enrolment__student=student).first()
    if remedy is None or not remedy.is_open:
        return
    now = timezone.now()
    fields: Mapping[str, Any] = {"take": {"taken_at": now}, "done": {"taken_at": now, "done_at": now}, "aside": {"put_aside_at": now}}.get(
        answer, {}
    )
    if answer == "done" and not remedy.as_exercise.silent:
        return
    if fields:
        Remedy.objects.filter(pk=remedy.pk).update(**fields)


def erase_practice(task: Task) -> None:
    """All attempts at a task and their sounds, gone for good."""
    names = list(task.attempts.exclude(sound="").values_list("sound", flat=True))
    for attempt in task.attempts.all():
        forget_samples(attempt)
    task.attempts.all().delete()
    task.remedies.all().delete()
    task.drills.all().delete()
    for name in names:
        transaction.on_commit(partial(default_storage.delete, name))


def keep_habit(enrolment: Enrolment, minutes: int, days_off: Sequence[int]) -> None:
    """What a household agreed on. Raises ``AttemptRefused`` for numbers that make no sense."""
    if not 1 <= minutes <= MOST_MINUTES:
        raise AttemptRefused(worded("Agree on 1 to {most_minutes} minutes a day.", most_minutes=MOST_MINUTES))
    if any(not 0 <= day <= 6 for day in days_off) or len(set(days_off)) > 6:
        raise AttemptRefused(worded("One day of the week at least stays for practising."))
    Habit.objects.update_or_create(enrolment=enrolment, defaults={"minutes": minutes, "days_off": sorted(set(days_off))})
