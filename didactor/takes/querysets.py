from __future__ import annotations

from typing import TYPE_CHECKING, Any

from django.db import models
from django.db.models import Case, Count, Exists, OuterRef, Q, When

from didactor.people.models import Consent, ConsentKind

if TYPE_CHECKING:
    from didactor.people.models import Person


class TakeQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> TakeQuerySet:
        """A student's own takes and those of one's wards; a teacher sees what was submitted to them."""
        if not person.is_authenticated:
            return self.none()
        if person.is_teacher:
            return self.filter(task__assignment__studio=person.studio, submission__isnull=False)
        return self.filter(task__enrolment__student__in=person.family())

    def owned_by(self, person: Person) -> TakeQuerySet:
        """Takes that this person may mark, submit or delete: their own."""
        return self.filter(task__enrolment__student=person) if person.is_authenticated else self.none()

    def with_the_ear_for(self, teacher: Person) -> dict[str, int]:
        """How many takes of this teacher's studio the ear has not finished with (``being_heard``), and failed at (``not_heard``)."""
        failed = Q(state="failed")
        own = self.filter(task__assignment__studio=teacher.studio, state__in=("stored", "analysing", "failed"))
        return own.aggregate(being_heard=Count("pk", filter=~failed), not_heard=Count("pk", filter=failed))

    def with_everything(self) -> TakeQuerySet:
        return (
            self.select_related("task__assignment__passage__revision__piece", "task__enrolment__student", "submission", "self_review")
            .prefetch_related("analyses", "self_review__marks")
            .defer("task__assignment__passage__revision__prepared")
        )


class AnalysisQuerySet(models.QuerySet[Any]):
    def summaries(self) -> AnalysisQuerySet:
        """What lists show, without the whole of what was heard."""
        return self.defer("result", "parameters", "moments", "tone")


class SubmissionQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> SubmissionQuerySet:
        if not person.is_authenticated or not person.is_teacher:
            return self.none()
        return self.filter(studio=person.studio)

    def awaiting_review_by(self, teacher: Person) -> SubmissionQuerySet:
        """What was handed in and not answered yet."""
        return self.visible_to(teacher).filter(take__task__state="handed_in", answered_at=None)

    def in_desk_order(self) -> SubmissionQuerySet:
        """What is due first first, takes of one assignment together in the order they came; at the end what looks strange."""
        strange = Q(take__state="unusable") | Q(take__same_as__isnull=False)
        return self.annotate(is_strange=Case(When(strange, then=1), default=0)).order_by(
            "is_strange", "take__task__assignment__due_at", "take__task__assignment", "submitted_at", "pk"
        )


class TogetherQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> TogetherQuerySet:
        """A teacher's studio; a family those that one of theirs is in. Only as long as all in it agree to it."""
        if not person.is_authenticated:
            return self.none()
        agreed = self.allowed()
        if person.is_teacher:
            return agreed.filter(assignment__studio=person.studio)
        return agreed.filter(takes__task__enrolment__student__in=person.family()).distinct()

    def allowed(self) -> TogetherQuerySet:
        """Those in which everybody agrees to be heard together with others."""
        agreed = Consent.objects.filter(student=OuterRef("task__enrolment__student"), kind=ConsentKind.TOGETHER, withdrawn_at=None)
        take = self.model._meta.get_field("takes").related_model
        without = take.objects.filter(together=OuterRef("pk")).exclude(Exists(agreed))
        return self.exclude(Exists(without))
