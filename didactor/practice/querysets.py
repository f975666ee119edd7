from __future__ import annotations

from typing import TYPE_CHECKING, Any

from django.db import models

if TYPE_CHECKING:
    from didactor.people.models import Person


class AttemptQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> AttemptQuerySet:
        """A student's own and those of one's wards; a teacher sees those of the studio's students."""
        if not person.is_authenticated:
            return self.none()
        if person.is_teacher:
            return self.filter(task__assignment__studio=person.studio)
        return self.filter(task__enrolment__student__in=person.family())

    def over(self) -> AttemptQuerySet:
        """Those that were ended, the oldest first."""
        return self.filter(ended=True).order_by("made_at", "pk")

    def for_crossing(self) -> AttemptQuerySet:
        """Of these, those at stones and remedies."""
        return self.over().filter(drill=None)

    def of_drills(self) -> AttemptQuerySet:
        """Of these, those at drills."""
        return self.over().exclude(drill=None)

    def with_task(self) -> AttemptQuerySet:
        return self.select_related("task__assignment", "task__enrolment__student", "task__passage__arranged_from", "remedy", "drill")
