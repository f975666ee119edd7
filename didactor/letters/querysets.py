from __future__ import annotations

from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

from django.db import models
from django.db.models import F, Q

if TYPE_CHECKING:
    from didactor.people.models import Person

#: So often a letter is tried, each time after twice as long.
MOST_TRIES, FIRST_PAUSE = 5, timedelta(minutes=10)


class LetterQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> LetterQuerySet:
        """A teacher sees what went out of their studio, everybody else their own."""
        if not person.is_authenticated:
            return self.none()
        return self.filter(person__studio=person.studio) if person.is_teacher else self.filter(person=person)

    def to_be_sent(self, now: datetime) -> LetterQuerySet:
        """What is not sent yet and whose next try is due."""
        due = Q(tried_at__isnull=True)
        for tries in range(1, MOST_TRIES):
            due |= Q(tries=tries, tried_at__lte=now - FIRST_PAUSE * 2 ** (tries - 1))
        return self.filter(due, sent_at__isnull=True, tries__lt=MOST_TRIES).order_by(F("made_at"))
