from __future__ import annotations

from django.db.models import Prefetch

from didactor.takes.models import Analysis
from didactor.takes.querysets import SubmissionQuerySet


def for_lists(submissions: SubmissionQuerySet) -> SubmissionQuerySet:
    """Submissions with their answers, and summaries of what was heard, not the whole of it."""
    summaries = Prefetch("take__analyses", queryset=Analysis.objects.summaries())
    return (
        submissions.select_related("take__task__assignment", "take__task__enrolment__student", "take__task__enrolment__group", "review")
        .select_related("take__same_as__task__enrolment__student")
        .prefetch_related(summaries)
        .defer("take__peaks")
    )
