"""Times at which a teacher can be played to live: offered, chosen by students, given back."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from didactor.assignments.models import Slot
from didactor.core.words import worded
from didactor.people.models import Enrolment, Group, Person

#: At once; and how short and how long one may be, in minutes.
MOST, SHORTEST, LONGEST = 24, 5, 180


class SlotRefused(Exception):
    """Says why."""


@transaction.atomic
def offer(*, teacher: Person, group: Group | None, first: datetime, minutes: int, count: int) -> int:
    """So many times one after the other, to a group or to everybody. Those that meet one of the teacher's others are left out; returns how
    many were made.

    Raises:
        SlotRefused: in the past, or all of them taken up by others.
    """
    if first <= timezone.now():
        raise SlotRefused(worded("That is over already: choose a time to come."))
    length = timedelta(minutes=min(LONGEST, max(SHORTEST, minutes)))
    made = 0
    for k in range(min(MOST, max(1, count))):
        begin = first + k * length
        if not Slot.objects.meeting(teacher, begin, begin + length).exists():
            Slot.objects.create(teacher=teacher, group=group, starts_at=begin, minutes=int(length.total_seconds() / 60))
            made += 1
    if not made:
        raise SlotRefused(worded("You have offered times there already."))
    return made


@transaction.atomic
def choose(*, slot: Slot, enrolment: Enrolment) -> Slot:
    """Take a free time; one that the student had with this teacher before is given back. Raises ``SlotRefused``."""
    slot = Slot.objects.select_for_update(of=("self",)).get(pk=slot.pk)
    if slot.enrolment_id == enrolment.pk:
        return slot
    if slot.enrolment_id is not None:
        raise SlotRefused(worded("Somebody else was quicker. Choose another time."))
    if slot.starts_at <= timezone.now():
        raise SlotRefused(worded("That is over already: choose a time to come."))
    Slot.objects.filter(teacher=slot.teacher_id, enrolment=enrolment, starts_at__gt=timezone.now()).update(enrolment=None)
    slot.enrolment = enrolment
    slot.save(update_fields=["enrolment"])
    return slot


def give_back(slot: Slot) -> None:
    """It is free again, unless it has begun."""
    Slot.objects.filter(pk=slot.pk, starts_at__gt=timezone.now()).update(enrolment=None)
