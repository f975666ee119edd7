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

    def in_use(self) -> PieceQuerySet:
        return self.filter(is_put_away=False)

    def put_away(self) -> PieceQuerySet:
        return self.filter(is_put_away=True)

    def found_by(self, words: str, kind: str = "", level: str = "") -> PieceQuerySet:
        """Pieces whose title, composer or tags hold every word, of a kind and a level where those are given."""
        found = self.filter(**{name: value for name, value in (("kind", kind), ("level", level)) if value})
        for word in words.split():
            found = found.filter(models.Q(title__icontains=word) | models.Q(composer__icontains=word) | models.Q(tags__icontains=word))
        return found


class ImportQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> ImportQuerySet:
        if not person.is_authenticated or not person.is_teacher:
            return self.none()
        return self.filter(studio=person.studio)


class PassageQuerySet(models.QuerySet[Any]):
    def cut_by_teachers(self) -> PassageQuerySet:
        """Without the arrangements made of them."""
        return self.filter(arranged_from=None)

    def visible_to(self, person: Person) -> PassageQuerySet:
        """A teacher's own studio; a student or guardian the passages assigned to them, sealed ones once they are opened."""
        if not person.is_authenticated:
            return self.none()
        if person.is_teacher:
            return self.filter(revision__piece__studio=person.studio)
        given = models.Q()
        for path, assignment in (("assignments__tasks", "assignments"), ("tasks", "tasks__assignment")):
            own = models.Q(**{f"{path}__enrolment__student": person}) | models.Q(**{f"{path}__enrolment__student__guardians": person})
            opened = models.Q(**{f"{assignment}__preparation_s": None}) | models.Q(**{f"{path}__opened_at__isnull": False})
            given |= own & opened
        return self.filter(given).distinct()
