"""Assignments that hang together: a dress rehearsal before its final, and a series that is given again in another term."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime, timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone

from didactor.assignments.forms import KEPT
from didactor.assignments.models import Assignment, Series, Task
from didactor.assignments.services import assign, keep_template
from didactor.core.errors import PassageError
from didactor.core.judging.stages import BY_SLUG
from didactor.core.words import worded
from didactor.library.models import Passage
from didactor.people.models import Enrolment, Person

MOST_DAYS_BEFORE = 14


def _copied(assignment: Assignment) -> dict[str, Any]:
    return {name: getattr(assignment, name) for name in KEPT}


@transaction.atomic
def hang_rehearsal(*, final: Assignment, days_before: int) -> Assignment:
    """A dress rehearsal for everybody who has the final, so many days before it: played like the real thing, as often as they like.

    The final opens when it is handed in. Raises ``PassageError`` for what is no final, or has one already.
    """
    if final.stage != "final" or Assignment.objects.filter(rehearses=final).exists():
        raise PassageError("assignment.rehearsal", worded("A dress rehearsal hangs before a final, and only one does."))
    stage = BY_SLUG["rehearsal"]
    changed = {"stage": stage.slug, "band_percent": stage.band_percent, "takes_allowed": stage.takes, "preparation_s": None}
    made = Assignment.objects.create(
        studio=final.studio,
        teacher=final.teacher,
        passage=final.passage,
        rehearses=final,
        title=worded("{title}, dress rehearsal", title=final.title[:180]),
        due_at=final.due_at - timedelta(days=days_before),
        **{**_copied(final), **changed},
    )
    # Its models are those of the final: the same parts at the same tempo.
    Task.objects.bulk_create(
        Task(assignment=made, enrolment_id=task.enrolment_id, passage_id=task.passage_id, tempo=task.tempo) for task in final.tasks.all()
    )
    return made


@transaction.atomic
def assign_as_asked(
    *,
    teacher: Person,
    passage: Passage,
    enrolments: Iterable[Enrolment],
    fields: dict[str, Any],
    parts: Mapping[int, str],
    rehearsal_days: int | None = None,
    keep_as: str = "",
) -> Assignment:
    """All that the form for a new assignment asks for, or nothing: the assignment, a dress rehearsal before a final, and what was chosen
    kept as a template. Raises ``PassageError``.
    """
    assignment = assign(teacher=teacher, passage=passage, enrolments=enrolments, fields=fields, parts=parts)
    if rehearsal_days and assignment.stage == "final":
        hang_rehearsal(final=assignment, days_before=rehearsal_days)
    if keep_as.strip():
        keep_template(teacher=teacher, title=keep_as, fields={name: fields[name] for name in KEPT})
    return assignment


@transaction.atomic
def give_series_again(
    *, series: Series, teacher: Person, title: str, first_due: date, enrolments: Sequence[Enrolment]
) -> tuple[Series, int]:
    """All check-offs of a series once more, to others or for another term: as far apart as they were, in the same order of opening.

    Returns the new series and how many check-offs it has.

    Raises:
        PassageError: no name or one that is there already, nothing to give, or nobody chosen.
    """
    title = title.strip()
    chain = list(series.assignments.filter(rehearses=None).select_related("passage__revision__piece", "rehearsal").order_by("due_at", "pk"))
    if not title or Series.objects.filter(studio=series.studio, title=title).exists():
        raise PassageError("series.title", worded("Give the new series a name that no other one has."))
    if not chain:
        raise PassageError("series.empty", worded("There are no check-offs in this series."))
    made = Series.objects.create(studio=series.studio, title=title, in_order=series.in_order)
    first = timezone.localtime(chain[0].due_at)
    for one in chain:
        due = timezone.localtime(one.due_at)
        day = first_due + (due.date() - first.date())
        fields = {**_copied(one), "title": one.title, "series": made, "due_at": timezone.make_aware(datetime.combine(day, due.time()))}
        given = assign(teacher=teacher, passage=one.passage, enrolments=enrolments, fields=fields)
        if hasattr(one, "rehearsal"):
            hang_rehearsal(final=given, days_before=max(1, (one.due_at - one.rehearsal.due_at).days))
    return made, len(chain)
