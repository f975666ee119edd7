from __future__ import annotations

from typing import TYPE_CHECKING, Any

from django.db import models

if TYPE_CHECKING:
    from didactor.people.models import Person


class PieceQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> PieceQuerySet:
        """The library is the teacher's room; students meet its music on their stand."""
        if not person.is_authenticated or not person.is_teacher:
            return self.none()
        return self.filter(studio=person.studio)


class PassageQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> PassageQuerySet:
        """A teacher's own studio; a student or guardian the passages assigned to them."""
        if not person.is_authenticated:
            return self.none()
        if person.is_teacher:
            return self.filter(revision__piece__studio=person.studio)
        tasks = models.Q(assignments__tasks__enrolment__student=person) | models.Q(assignments__tasks__enrolment__student__guardians=person)
        return self.filter(tasks).distinct()
