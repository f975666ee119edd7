from __future__ import annotations

from typing import TYPE_CHECKING, Any

from django.contrib.auth.models import UserManager
from django.db import models

from didactor.people.acts import Act, Whose, allowed

if TYPE_CHECKING:
    from didactor.people.models import Person


class PersonQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> PersonQuerySet:
        """Teachers see their studio's people; a student sees themself; a guardian also their wards."""
        if not person.is_authenticated:
            return self.none()
        if person.is_teacher:
            return self.filter(studio=person.studio)
        return self.filter(pk__in=person.family())

    def whom(self, actor: Person, act: Act) -> PersonQuerySet:
        """Those to whom somebody may do this; see ``acts``."""
        studio = self.filter(studio=actor.studio_id)
        found = {
            Whose.OWN: lambda: self.filter(pk=actor.pk),
            Whose.STUDENT: studio.students,
            Whose.LEFT: lambda: studio.filter(role="student"),
            Whose.GUARDIAN: lambda: studio.filter(role="guardian", is_active=True),
            Whose.WARD: lambda: self.filter(pk__in=actor.wards.values("pk"), is_active=True),
            Whose.COLLEAGUE: lambda: studio.filter(role="teacher", is_active=True, is_owner=False).exclude(pk=actor.pk),
        }
        chosen = self.none()
        for whose in allowed(actor.role, actor.is_owner, act):
            chosen |= found[whose]()
        return chosen

    def students(self) -> PersonQuerySet:
        return self.filter(role="student", is_active=True)


class PersonManager(UserManager.from_queryset(PersonQuerySet)):  # type: ignore[misc]
    pass


class GroupQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> GroupQuerySet:
        """A teacher sees the groups of their studio; nobody else sees one as a whole."""
        return self.filter(studio=person.studio) if person.is_authenticated and person.is_teacher else self.none()


class EnrolmentQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> EnrolmentQuerySet:
        if not person.is_authenticated:
            return self.none()
        if person.is_teacher:
            return self.filter(student__studio=person.studio)
        return self.filter(student__in=person.family())

    def active(self) -> EnrolmentQuerySet:
        return self.filter(student__is_active=True).select_related("student", "group")
