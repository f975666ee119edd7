from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from django.db.models import Exists, OuterRef, Prefetch, Subquery, prefetch_related_objects

from didactor.assignments.models import Assignment
from didactor.library.models import Passage
from didactor.people.models import Person
from didactor.review.models import Scale
from didactor.takes.models import Analysis, Submission, Take
from didactor.takes.querysets import SubmissionQuerySet


def for_lists(submissions: SubmissionQuerySet) -> SubmissionQuerySet:
    """Submissions with their answers; what was heard is fetched for several lists at once (``with_summaries``)."""
    return (
        submissions.select_related("take__task__assignment", "take__task__enrolment__student", "take__task__enrolment__group", "review")
        .prefetch_related(Prefetch("take__same_as", Take.objects.select_related("task__enrolment__student").defer("peaks")))
        .defer("take__peaks")
    )


def for_the_desk(submissions: SubmissionQuerySet, teacher: Person) -> SubmissionQuerySet:
    """Submissions with all that lies beside a take on the desk, in as few questions as can be.

    ``follows``: whether another assignment of the series is due later; ``own_scale``: the marks that this teacher gives.
    """
    assignment = "take__task__assignment"
    later = Assignment.objects.filter(series=OuterRef(f"{assignment}__series"), due_at__gt=OuterRef(f"{assignment}__due_at"))
    return (
        submissions.select_related(assignment, "take__task__enrolment__student", "take__task__found_out", "take__self_review", "review")
        .prefetch_related(_passages(), "take__analyses", "take__self_review__marks")
        .annotate(follows=Exists(later), own_scale=Subquery(Scale.objects.filter(teacher=teacher).values("steps")))
    )


def for_alongside(submissions: SubmissionQuerySet) -> SubmissionQuerySet:
    """Submissions with what is needed to find the same places in other sounds."""
    moments = Analysis.objects.only("take_id", "moments")
    return (
        submissions.select_related("take__task", "review")
        .prefetch_related(_passages(), Prefetch("take__analyses", queryset=moments))
        .defer("take__peaks")
    )


def _passages() -> Prefetch[Any]:
    """By themselves: what one question joins of a dozen tables, the database plans longer than it fetches."""
    passages = Passage.objects.select_related("revision__piece", "arranged_from").defer("revision__prepared")
    return Prefetch("take__task__passage", queryset=passages)


def with_summaries(*lists: Iterable[Submission]) -> list[list[Submission]]:
    """The lists, each submission with the summary of what was heard in its take, not the whole of it."""
    found = [list(submissions) for submissions in lists]
    prefetch_related_objects([s for own in found for s in own], Prefetch("take__analyses", queryset=Analysis.objects.summaries()))
    return found
