"""To whom a recording was given out, and when: what a family may ask."""

from __future__ import annotations

from collections.abc import Iterable

from django.core.cache import cache
from django.utils import timezone

from didactor.people.models import Person
from didactor.takes.models import Delivery, Take

DAY_S = 24 * 3600


def note_given(takes: Iterable[Take], person: Person) -> None:
    """Keep that this person was given these recordings today. A student's own are theirs: nothing is kept of that.

    A player asks for a sound piece by piece: what was kept a moment ago is not looked up again.
    """
    today = timezone.localdate()
    fresh = [take.pk for take in takes if cache.add(f"given:{take.pk}:{person.pk}:{today}", 1, DAY_S)]
    others = Take.objects.filter(pk__in=fresh).exclude(task__enrolment__student=person).values_list("pk", flat=True) if fresh else ()
    Delivery.objects.bulk_create((Delivery(take_id=pk, person=person, on=today) for pk in others), ignore_conflicts=True)


def given_to(take: Take) -> list[tuple[Person, list[Delivery]]]:
    """Who was given it, by name, with the days."""
    found: dict[Person, list[Delivery]] = {}
    for delivery in take.deliveries.select_related("person").order_by("person__name", "on"):
        found.setdefault(delivery.person, []).append(delivery)
    return list(found.items())
