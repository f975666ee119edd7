"""A student heard live, in a lesson or a call: what the teacher marks lies with the takes, with a recording of it or without."""

from __future__ import annotations

import hashlib
from typing import IO

from django.db import transaction

from didactor.assignments.models import Task, TaskState
from didactor.assignments.services import frozen_basis, move_task
from didactor.core.words import worded
from didactor.people.models import Person
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Submission, Take, TakeState
from didactor.takes.services import TakeRefused, check_size, erase_take, store


@transaction.atomic
def hear_live(*, task: Task, teacher: Person) -> Submission:
    """Begin to hear a student play a task's passage. Begun twice, and not answered yet, it is the same. Raises ``TakeRefused``."""
    task = Task.objects.select_for_update(of=("self",)).select_related("assignment", "enrolment").get(pk=task.pk)
    begun = Submission.objects.filter(take__task=task, take__heard_live=True, answered_at=None).first()
    if begun is not None:
        return begun
    if task.withdrawn_at is not None or task.assignment.own_grade is not None or task.assignment.is_listening:
        raise TakeRefused(worded("This cannot be heard live: it was withdrawn, or is not for your ears."))
    if task.state in (TaskState.HANDED_IN, TaskState.PASSED):
        raise TakeRefused(worded("It is passed, or a take of it is on your desk already: answer that one."))
    last = task.takes.order_by("-number").first()
    take = Take.objects.create(
        task=task,
        number=last.number + 1 if last else 1,
        original="",
        filename="",
        size=0,
        sha256="",
        basis=frozen_basis(task),
        recorded_by=teacher,
        state=TakeState.LIVE,
        heard_live=True,
    )
    submission = Submission.objects.create(take=take)
    move_task(task, TaskState.HANDED_IN)
    return submission


@transaction.atomic
def keep_recording(*, take: Take, source: IO[bytes], filename: str) -> None:
    """What was recorded of it meanwhile becomes the take's recording and is heard by the ear as well.

    Raises:
        TakeRefused: consent is missing, there is one already, or it is too large.
    """
    take = Take.objects.select_for_update(of=("self",)).select_related("task__enrolment__student").get(pk=take.pk)
    if not take.heard_live or take.original:
        raise TakeRefused(worded("There is a recording of this already."))
    if take.task.enrolment.student.consent_missing:
        raise TakeRefused(worded("A guardian’s consent to recordings is missing, so nothing of this was kept. Your marks are."))
    size = source.seek(0, 2)
    check_size(size)
    source.seek(0)
    digest = hashlib.file_digest(source, "sha256").hexdigest()  # type: ignore[arg-type]
    take.original, take.filename, take.size, take.sha256 = store(source, digest), filename[:255], size, digest
    take.state = TakeState.STORED
    take.save(update_fields=["original", "filename", "size", "sha256", "state"])
    analyse_take.defer(take_id=take.pk)


@transaction.atomic
def drop_live(take: Take) -> None:
    """It was not to be: nothing of it stays, and the task is as it was. Raises ``TakeRefused`` once it is answered."""
    task = Task.objects.select_for_update(of=("self",)).get(pk=take.task_id)
    if Submission.objects.filter(take=take, answered_at__isnull=False).exists() or not take.heard_live:
        raise TakeRefused(worded("This was answered: it stays in the record."))
    erase_take(take)
    if task.takes.filter(submission__answered_at__isnull=False).exists():
        state = TaskState.ANSWERED
    else:
        state = TaskState.IN_WORK if task.takes.exists() else TaskState.OPEN
    Task.objects.filter(pk=task.pk, state=TaskState.HANDED_IN).update(state=state)
