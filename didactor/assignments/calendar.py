"""Due dates as a calendar that any calendar program can subscribe to. Its address carries a signed name, since such programs cannot
sign in; it tells titles and dates, nothing that was recorded.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

import icalendar
from django.core import signing
from django.db.models import F

from didactor.assignments.models import Assignment, Slot, Task, TaskState
from didactor.core.words import worded
from didactor.people.languages import in_words_of
from didactor.people.models import Person

SALT = "didactor.calendar"
#: No calendar needs more.
MOST = 500


def calendar_key(person: Person) -> str:
    """The signed part of a person's calendar address."""
    return signing.dumps([person.pk, person.calendar_number], salt=SALT)


def new_address(person: Person) -> None:
    """From now on the old address opens nothing."""
    Person.objects.filter(pk=person.pk).update(calendar_number=F("calendar_number") + 1)
    person.refresh_from_db(fields=["calendar_number"])


def person_of(key: str) -> Person | None:
    """Whose calendar an address means; None for one that was not given out, was replaced, or is of somebody who has left."""
    try:
        pk, number = signing.loads(key, salt=SALT)
    except (signing.BadSignature, TypeError, ValueError):
        return None
    return Person.objects.filter(pk=pk, calendar_number=number, is_active=True).first()


def calendar_of(person: Person) -> bytes:
    """Due dates as an iCalendar file (RFC 5545), each a quarter of an hour long.

    A family finds its tasks that are not passed, a teacher each assignment once.
    """
    made = icalendar.Calendar()
    made.add("prodid", "-//Didactor//due dates//EN")
    made.add("version", "2.0")
    made.add("x-wr-calname", "Didactor")
    with in_words_of(person):
        for event in _of_teacher(person) if person.is_teacher else _of_family(person):
            made.add_component(event)
        for slot in Slot.objects.visible_to(person).to_come().exclude(enrolment=None)[:MOST]:
            made.add_component(_of_slot(slot, person))
    return bytes(made.to_ical())


def _of_family(person: Person) -> Iterator[icalendar.Event]:
    tasks = Task.objects.visible_to(person).given().for_lists().exclude(state=TaskState.PASSED).order_by("assignment__due_at")[:MOST]
    for task in tasks:
        whose = f" ({task.enrolment.student.name})" if person.is_guardian else ""
        yield _event(f"task-{task.pk}", task.due_at, f"{task.assignment.title}{whose}", f"{task.tempo_in_words}. {task.state_in_words}.")


def _of_teacher(person: Person) -> Iterator[icalendar.Event]:
    for assignment in Assignment.objects.visible_to(person).given().with_progress().order_by("-due_at")[:MOST]:
        come = assignment.task_count - assignment.open_count
        yield _event(
            f"assignment-{assignment.pk}",
            assignment.due_at,
            assignment.title,
            worded("{come} of {task_count} have handed in.", come=come, task_count=assignment.task_count),
        )


def _of_slot(slot: Slot, person: Person) -> icalendar.Event:
    """A time to be heard live that somebody has chosen."""
    whom = slot.teacher.name if person.is_student else str(slot.enrolment.student) if slot.enrolment else ""
    event = icalendar.Event()
    event.add("uid", f"live-{slot.pk}@didactor")
    event.add("dtstamp", datetime.now(UTC))
    event.add("dtstart", slot.starts_at.astimezone(UTC))
    event.add("dtend", slot.ends_at.astimezone(UTC))
    event.add("summary", worded("Heard live: {whom}", whom=whom))
    return event


def _event(uid: str, due_at: datetime, title: str, description: str) -> icalendar.Event:
    event = icalendar.Event()
    event.add("uid", f"{uid}@didactor")
    event.add("dtstamp", datetime.now(UTC))
    event.add("dtstart", (due_at - timedelta(minutes=15)).astimezone(UTC))
    event.add("dtend", due_at.astimezone(UTC))
    event.add("summary", worded("Due: {title}", title=title))
    event.add("description", description)
    return event
