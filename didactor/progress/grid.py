"""The check-off grid of a group: students down, what was given to them across, and who has handed in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.db.models import Q
from django.utils import timezone

from didactor.assignments.models import Assignment, Series, Task, TaskState
from didactor.core.words import _, worded
from didactor.people.models import Enrolment, Group
from didactor.progress.files import as_csv
from didactor.review.models import Review
from didactor.takes.best import Best, best_of

#: The newest that are shown.
COLUMNS = 16
#: Sign and word of a cell.
WORDS = {
    "fast": _("passed, in the fast tier"),
    "passed": _("passed"),
    "answered": _("answered, once more"),
    "handed_in": _("handed in"),
    "late": _("late"),
    "in_work": _("in work"),
    "open": _("open"),
    "withdrawn": _("withdrawn"),
}


MARKS_HEAD = (
    _("student"),
    _("instrument"),
    _("assignment"),
    _("take"),
    _("due"),
    _("handed in"),
    _("answered"),
    _("decision"),
    _("mark"),
)


@dataclass(frozen=True, kw_only=True)
class Grid:
    """``cells``: by enrolment and assignment; who was not given something has none. ``best``: the same of those with two tiers, the
    fastest tempo that was carried.
    """

    assignments: Sequence[Assignment]
    enrolments: Sequence[Enrolment]
    cells: Mapping[tuple[int, int], str]
    best: Mapping[tuple[int, int], float]
    series: Sequence[Series]
    chosen: int | None

    @property
    def rows(self) -> list[tuple[Enrolment, list[tuple[str, str]]]]:
        """Each student with a sign and its words for each assignment."""
        found = []
        for enrolment in self.enrolments:
            found.append((enrolment, [self._told((enrolment.pk, assignment.pk)) for assignment in self.assignments]))
        return found

    def _told(self, key: tuple[int, int]) -> tuple[str, str]:
        sign = self.cells.get(key, "")
        words = str(WORDS[sign]) if sign in WORDS else worded("not given")
        return sign, worded("{words}, at {best:.0f} at best", words=words, best=self.best[key]) if key in self.best else words

    @property
    def feet(self) -> list[tuple[int, int]]:
        """Under each assignment: passed, and given."""
        found = []
        for assignment in self.assignments:
            own = [sign for (_, pk), sign in self.cells.items() if pk == assignment.pk and sign != "withdrawn"]
            found.append((own.count("passed") + own.count("fast"), len(own)))
        return found


def grid_of(group: Group, series: int | None = None) -> Grid:
    """What a group has, of one series only where that is asked. Listening tasks are in it like any other."""
    enrolments = list(group.enrolments.active().select_related("student").order_by("student__name"))
    # What was taken back from everybody is no column.
    kept = Task.objects.filter(Q(withdrawn_at=None) | Q(state=TaskState.PASSED), enrolment__in=enrolments)
    # By number: rows of assignments are wide, and each of them would be compared with all others.
    given = Assignment.objects.filter(pk__in=kept.values("assignment"))
    offered = Series.objects.filter(pk__in=given.exclude(series=None).values("series")).order_by("title")
    chosen = given.filter(series=series) if series is not None else given
    assignments = sorted(chosen.order_by("-due_at", "-pk")[:COLUMNS], key=lambda a: (a.due_at, a.pk))
    tasks = list(Task.objects.filter(enrolment__in=enrolments, assignment__in=assignments).select_related("assignment"))
    tiers = [task for task in tasks if task.assignment.fast_tempo]
    best = best_of(task.pk for task in tiers) if tiers else {}
    return Grid(
        assignments=assignments,
        enrolments=enrolments,
        cells={(task.enrolment_id, task.assignment_id): _sign(task, best.get(task.pk)) for task in tasks},
        best={(task.enrolment_id, task.assignment_id): best[task.pk].tempo for task in tiers if task.pk in best},
        series=list(offered),
        chosen=series,
    )


def _sign(task: Task, best: Best | None) -> str:
    if task.state == TaskState.PASSED and best is not None and best.fast:
        return "fast"
    if task.withdrawn_at is not None and task.state != TaskState.PASSED:
        return "withdrawn"
    return "late" if task.is_late else str(task.state)


def grid_csv(grid: Grid) -> str:
    """Names and instruments, then a column for each assignment."""
    head = [worded("student"), worded("instrument"), *(f"{a.title} ({a.due_at:%Y-%m-%d})" for a in grid.assignments)]
    rows = [[e.student.name, str(e.get_instrument_display()), *(words for _sign, words in signs)] for e, signs in grid.rows]
    return as_csv([head, *rows])


def marks_csv(group: Group) -> str:
    """A line for each answer that was sent: who, what, when it was due, handed in and answered, the decision and the mark."""
    sent = (
        Review.objects.filter(submission__take__task__enrolment__group=group, sent_at__isnull=False)
        .select_related("submission__take__task__assignment", "submission__take__task__enrolment__student")
        .order_by("submission__take__task__enrolment__student__name", "submission__submitted_at", "pk")
        .defer("submission__take__peaks")
    )
    rows: list[Sequence[object]] = [list(map(str, MARKS_HEAD))]
    for review in sent:
        take = review.submission.take
        dates = [f"{timezone.localtime(at):%Y-%m-%d}" for at in (take.task.due_at, review.submission.submitted_at, review.sent_at)]
        who = take.task.enrolment
        rows.append(
            [
                who.student.name,
                who.get_instrument_display(),
                take.task.assignment.title,
                take.number,
                *dates,
                review.get_decision_display(),
                review.grade,
            ]
        )
    return as_csv(rows)
