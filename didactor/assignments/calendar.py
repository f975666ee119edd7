"""Due dates as a calendar that any calendar program can subscribe to. Its address carries a signed name, since such programs cannot
sign in; it tells titles and dates, nothing that was recorded.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta

import icalendar
from django.core import signing

from didactor.assignments.models import Task
from didactor.people.models import Person

SALT = "didactor.calendar"


def calendar_key(person: Person) -> str:
    """The signed part of a person's calendar address."""
    return signing.dumps(person.pk, salt=SALT)


def person_of(key: str) -> Person | None:
    """Whose calendar an address means; None for one that was not given out, or of somebody who has left."""
    try:
        pk = signing.loads(key, salt=SALT)
    except signing.BadSignature:
        return None
    return Person.objects.filter(pk=pk, is_active=True).first()


def calendar_of(tasks: Iterable[Task]) -> bytes:
    """Tasks as an iCalendar file (RFC 5545): a quarter of an hour up to each due date."""
    made = icalendar.Calendar()
    made.add("prodid", "-//Didactor//due dates//EN")
    made.add("version", "2.0")
    made.add("x-wr-calname", "Didactor")
    for task in tasks:
        event = icalendar.Event()
        event.add("uid", f"task-{task.pk}@didactor")
        event.add("dtstamp", datetime.now(UTC))
        event.add("dtstart", (task.due_at - timedelta(minutes=15)).astimezone(UTC))
        event.add("dtend", task.due_at.astimezone(UTC))
        event.add("summary", f"Due: {task.assignment.title}")
        event.add("description", f"{task.tempo_in_words}. {task.get_state_display()}.")
        made.add_component(event)
    return bytes(made.to_ical())
