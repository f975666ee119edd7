from __future__ import annotations

from django.db import transaction

from didactor.assignments.models import Task, TaskState
from didactor.assignments.services import forget_reply_sound
from didactor.people.models import Person, SignedIn
from didactor.practice.services import erase_practice
from didactor.takes import pieces
from didactor.takes.models import Take, Upload
from didactor.takes.services import erase_take


@transaction.atomic
def erase_student(student: Person) -> None:
    """A student, gone for good: takes with files and answers, tasks, consents, cards, sessions; so are guardians without another ward."""
    student = Person.objects.select_for_update().get(pk=student.pk)
    for take in Take.objects.filter(task__enrolment__student=student):
        erase_take(take)
    for upload in Upload.objects.filter(owner=student):
        pieces.discard(upload)
        upload.delete()
    for task in Task.objects.filter(enrolment__student=student):
        forget_reply_sound(task)
        erase_practice(task)
        task.delete()
    alone = [g for g in student.guardians.all() if g.wards.count() == 1]
    for person in (student, *alone):
        _end_sessions(person)
        person.delete()


@transaction.atomic
def erase_handed_in(take: Take) -> None:
    """A take that was handed in, and the answer to it. The task is open again if nothing else of it waits or was answered."""
    task = Task.objects.select_for_update().get(pk=take.task_id)
    erase_take(take)
    if task.state in (TaskState.HANDED_IN, TaskState.ANSWERED) and not task.takes.filter(submission__isnull=False).exists():
        Task.objects.filter(pk=task.pk).update(state=TaskState.IN_WORK if task.takes.exists() else TaskState.OPEN)


def _end_sessions(person: Person) -> None:
    SignedIn.objects.filter(person_number=person.pk).delete()
