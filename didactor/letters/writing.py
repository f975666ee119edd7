"""What is told to whom. Letters are written from what lies in the database: one that was missed is written next time, and none twice."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta

from django.conf import settings
from django.core import signing
from django.urls import reverse
from django.utils import timezone
from django.utils.formats import date_format

from didactor.assignments.models import Task, TaskState
from didactor.core.words import counted, worded
from didactor.letters.models import Choice, Kind, Letter
from didactor.people.languages import in_words_of
from didactor.people.models import Person, Role
from didactor.review.models import Review
from didactor.takes.models import Submission

#: What happened longer ago is not told any more: who gives an address today gets no heap of old news.
NEWS = timedelta(days=2)
#: A teacher hears of takes at most so often; what is due within so long is told, once a day, from this hour on.
AT_MOST_EVERY, DUE_WITHIN, FROM_HOUR, TO_HOUR = timedelta(hours=1), timedelta(hours=36), 15, 21
#: Of many only so many are listed.
LISTED = 12
SALT = "no more letters"


def write_all(now: datetime) -> int:
    """Everything that is to be told now; how many letters came of it."""
    return sum(
        len(Letter.objects.bulk_create(letters, ignore_conflicts=True)) for letters in (_handed_in(now), _answered(now), _due_soon(now))
    )


def wants(people: Iterable[Person], kind: Kind) -> list[Person]:
    """Those with an address who did not say that they want none of this."""
    people = [person for person in people if person.email and person.is_active]
    refused = Choice.objects.filter(person__in=people, not_wanted__contains=[kind]).values_list("person_id", flat=True)
    return [person for person in people if person.pk not in set(refused)]


def readers_for(student: Person) -> list[Person]:
    """Who reads what is meant for a student: a child's guardians, else the student."""
    return list(student.guardians.all()) if student.is_minor else [student]


def stop_key(person: Person, kind: Kind) -> str:
    """Signed: whoever has the letter may end letters like it."""
    return signing.dumps([person.pk, str(kind)], salt=SALT, compress=True)


def read_stop_key(key: str) -> tuple[int, Kind] | None:
    try:
        pk, kind = signing.loads(key, salt=SALT)
        return int(pk), Kind(kind)
    except (signing.BadSignature, TypeError, ValueError):
        return None


def _letter(person: Person, kind: Kind, about: str, subject: str, lines: Sequence[str], now: datetime) -> Letter:
    stop = settings.ADDRESS + reverse("letters:stop", args=[stop_key(person, kind)])
    body = "\n".join(
        [worded("Good day, {name},", name=person.name), "", *lines, "", "-- ", worded("No more letters like this: {stop}", stop=stop), ""]
    )
    return Letter(
        person=person, kind=kind, about=about, address=person.email, subject=" ".join(subject.split())[:200], body=body, made_at=now
    )


def _handed_in(now: datetime) -> list[Letter]:
    """To each teacher, what came onto their desk since the last such letter."""
    letters = []
    for teacher in wants(Person.objects.filter(role=Role.TEACHER, is_active=True), Kind.HANDED_IN):
        last = teacher.letters.filter(kind=Kind.HANDED_IN).order_by("-made_at").first()
        if last is not None and now - last.made_at < AT_MOST_EVERY:
            continue
        since = max(now - NEWS, last.made_at if last else now - NEWS)
        waiting = Submission.objects.awaiting_review_by(teacher).filter(submitted_at__gt=since, submitted_at__lte=now)
        new = list(waiting.select_related("take__task__assignment", "take__task__enrolment__student").order_by("submitted_at", "pk"))
        if not new:
            continue
        with in_words_of(teacher):
            subject = counted("{count} take on your desk", "{count} takes on your desk", len(new))
            lines = [f"{s.take.task.enrolment.student.name}: {s.take.task.assignment}" for s in new[:LISTED]]
            lines += [worded("and {more} more", more=len(new) - LISTED)] if len(new) > LISTED else []
            lines += ["", settings.ADDRESS + reverse("review:waiting")]
            letters.append(_letter(teacher, Kind.HANDED_IN, f"to {new[-1].pk}", subject, lines, now))
    return letters


def _answered(now: datetime) -> list[Letter]:
    """To the student, or a child's guardians, each answer that was sent."""
    letters = []
    sent = Review.objects.filter(sent_at__gt=now - NEWS, sent_at__lte=now).select_related(
        "submission__take__task__assignment", "submission__take__task__enrolment__student", "teacher"
    )
    for review in sent.prefetch_related("submission__take__task__enrolment__student__guardians"):
        take = review.submission.take
        student = take.task.enrolment.student
        for reader in wants(readers_for(student), Kind.ANSWERED):
            values = {"teacher": review.teacher.name, "assignment": take.task.assignment}
            with in_words_of(reader):
                says = (
                    worded("{teacher} has answered your take of {assignment}.", **values)
                    if reader == student
                    else worded("{teacher} has answered {student}’s take of {assignment}.", student=student.name, **values)
                )
                lines = [says, "", settings.ADDRESS + reverse("take", args=[take.pk])]
                subject = worded("An answer: {assignment}", assignment=take.task.assignment)
                letters.append(_letter(reader, Kind.ANSWERED, f"answer {review.pk}", subject, lines, now))
    return letters


def _due_soon(now: datetime) -> list[Letter]:
    """Once a day, in the afternoon: what is due by tomorrow night and not handed in."""
    local = timezone.localtime(now)
    if not FROM_HOUR <= local.hour < TO_HOUR:
        return []
    open_ = Task.objects.filter(
        state__in=(TaskState.OPEN, TaskState.IN_WORK), withdrawn_at__isnull=True, assignment__own_grade__isnull=True
    )
    within = (now, now + DUE_WITHIN)
    tasks = open_.filter(own_due_at__range=within) | open_.filter(own_due_at__isnull=True, assignment__due_at__range=within)
    by_student: dict[Person, list[Task]] = {}
    for task in tasks.select_related("assignment", "enrolment__student").prefetch_related("enrolment__student__guardians"):
        if task.enrolment.student.is_active:
            by_student.setdefault(task.enrolment.student, []).append(task)
    by_reader: dict[Person, list[tuple[Person, Task]]] = {}
    for student, own in by_student.items():
        for reader in readers_for(student):
            by_reader.setdefault(reader, []).extend((student, task) for task in own)
    letters = []
    for reader in wants(by_reader, Kind.DUE_SOON):
        due = sorted(by_reader[reader], key=lambda entry: entry[1].due_at)
        with in_words_of(reader):
            lines = [_due(task, "" if student == reader else student.name) for student, task in due[:LISTED]]
            lines += ["", settings.ADDRESS + reverse("stand:index")]
            letters.append(_letter(reader, Kind.DUE_SOON, f"{local:%Y-%m-%d}", worded("Due soon"), lines, now))
    return letters


def _due(task: Task, student: str) -> str:
    at = date_format(timezone.localtime(task.due_at), worded("l H:i"))
    if student:
        return worded("{student}: {assignment}, due {at}", student=student, assignment=task.assignment, at=at)
    return worded("{assignment}, due {at}", assignment=task.assignment, at=at)
