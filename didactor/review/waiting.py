"""What waits to be heard, in the order of the desk: takes of one assignment together, what is due first first, what looks strange last."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import groupby

from django.db.models import Count
from django.utils.timesince import timesince

from didactor.assignments.models import Assignment
from didactor.core.comparing.mended import Since, since_last
from didactor.core.words import worded
from didactor.people.models import Person
from didactor.review.querysets import for_lists, with_summaries
from didactor.takes.models import Analysis, Submission, Take, TakeState
from didactor.takes.querysets import SubmissionQuerySet
from didactor.takes.strips import BarStrip, played_tempo, strip_of

#: One sitting's worth; the rest moves up as takes are answered.
SHOWN = 30
#: What was answered last.
ANSWERED = 8
_DUE = ("take__task__assignment__due_at", "take__task__assignment")
#: What no line shows, and takes long to read.
_UNSHOWN = (
    *(f"take__task__assignment__{name}" for name in ("checklist", "own_row_figures", "before_steps", "must_show", "crossing")),
    "take__task__steps_done",
    "review__checklist",
)
_COUNTED = (
    "take__task__assignment",
    "take__task__assignment__title",
    "take__task__assignment__due_at",
    "take__task__enrolment__group",
    "take__task__enrolment__group__name",
)


@dataclass(frozen=True, kw_only=True)
class Entry:
    """One take in a list. ``since``: what became of the places of the take that was answered before."""

    submission: Submission
    strip: BarStrip
    played: str
    strange: str
    since: Since | None = None

    @property
    def take(self) -> Take:
        found: Take = self.submission.take
        return found

    @property
    def assignment(self) -> Assignment:
        found: Assignment = self.take.task.assignment
        return found

    @property
    def student(self) -> Person:
        found: Person = self.take.task.enrolment.student
        return found

    @property
    def waits(self) -> str:
        """“2 days”."""
        return timesince(self.submission.submitted_at, depth=1)

    @property
    def is_late(self) -> bool:
        due: datetime = self.take.task.due_at
        return self.submission.submitted_at > due


@dataclass(frozen=True, kw_only=True)
class Pile:
    """Takes of one assignment that wait."""

    assignment: Assignment
    entries: Sequence[Entry]

    @property
    def groups(self) -> str:
        """Names of the groups whose takes lie here."""
        return ", ".join(dict.fromkeys(e.take.task.enrolment.group.name for e in self.entries if e.take.task.enrolment.group))


@dataclass(frozen=True, kw_only=True)
class Choice:
    """An assignment or a group with takes that wait, and how many."""

    pk: int
    title: str
    number: int


@dataclass(frozen=True, kw_only=True)
class Desk:
    """``apart``: cannot be judged or looks strange; ``total``: of all that was asked for, shown or not; ``answered``: the last answers."""

    piles: Sequence[Pile] = ()
    apart: Sequence[Entry] = ()
    total: int = 0
    shown: int = 0
    answered: Sequence[Entry] = ()
    assignments: Sequence[Choice] = field(default_factory=tuple)
    groups: Sequence[Choice] = field(default_factory=tuple)

    @property
    def first(self) -> Entry | None:
        return next((entry for pile in self.piles for entry in pile.entries), next(iter(self.apart), None))


def desk_of(teacher: Person, assignment: int | None = None, group: int | None = None) -> Desk:
    """What waits for a teacher, of one assignment or of one group only where that is asked."""
    waiting = Submission.objects.awaiting_review_by(teacher)
    counted = list(waiting.order_by(*_DUE).values_list(*_COUNTED).annotate(n=Count("pk")))
    if assignment is not None:
        waiting = waiting.filter(take__task__assignment=assignment)
    if group is not None:
        waiting = waiting.filter(take__task__enrolment__group=group)
    answered = Submission.objects.visible_to(teacher).filter(answered_at__isnull=False).order_by("-answered_at")
    queue, last = _rows(waiting.in_desk_order()[:SHOWN], answered[:ANSWERED])
    entries = entries_of(queue, with_last=True)
    plain = [entry for entry in entries if not entry.strange]
    piles = [Pile(assignment=group[0].assignment, entries=group) for group in _grouped(plain)]
    return Desk(
        piles=piles,
        apart=[entry for entry in entries if entry.strange],
        total=sum(n for pk, _, _, own, _, n in counted if assignment in (None, pk) and group in (None, own)),
        shown=len(entries),
        answered=entries_of(last),
        assignments=_choices((pk, title, n) for pk, title, _, _, _, n in counted),
        groups=_choices((own, name, n) for _, _, _, own, name, n in counted if own),
    )


def _rows(*lists: SubmissionQuerySet) -> list[list[Submission]]:
    """The lists with all that their lines show: what joins a dozen tables is planned longer than found, so it is asked once for all."""
    order = [list(submissions.values_list("pk", flat=True)) for submissions in lists]
    rows = for_lists(Submission.objects.filter(pk__in=[pk for own in order for pk in own])).defer("take__peaks", *_UNSHOWN)
    [found] = with_summaries(rows)
    by_key = {submission.pk: submission for submission in found}
    return [[by_key[pk] for pk in own if pk in by_key] for own in order]


def _choices(counted: Iterable[tuple[int, str, int]]) -> list[Choice]:
    found: dict[int, Choice] = {}
    for pk, title, number in counted:
        before = found[pk].number if pk in found else 0
        found[pk] = Choice(pk=pk, title=title, number=before + number)
    return list(found.values())


def _grouped(entries: Iterable[Entry]) -> list[list[Entry]]:
    return [list(group) for _, group in groupby(entries, key=lambda entry: entry.assignment.pk)]


def entries_of(rows: Sequence[Submission], with_last: bool = False) -> list[Entry]:
    """Lines of a list of submissions with their summaries; ``with_last``: with what became of the places of each one's take before."""
    before = _before(rows) if with_last else {}
    found = []
    for submission in rows:
        take = submission.take
        analysis = take.latest_analysis
        last = before.get(take.pk)
        found.append(
            Entry(
                submission=submission,
                strip=strip_of(analysis),
                played=played_tempo(analysis, take.basis["beat_unit"]),
                strange=strange_in(take),
                since=since_last(strip_of(last), strip_of(analysis)) if last else None,
            )
        )
    return found


def _before(submissions: Sequence[Submission]) -> dict[int, Analysis]:
    """By take: what was heard in the one of the same task that was handed in before it."""
    tasks = [submission.take.task_id for submission in submissions if submission.take.number > 1]
    if not tasks:
        return {}
    summaries = (
        Analysis.objects.summaries()
        .filter(take__task__in=tasks, take__submission__isnull=False, take__state=TakeState.ANALYSED)
        .select_related("take")
        .defer("take__peaks")
        .order_by("pk")
    )
    newest = {analysis.take_id: analysis for analysis in summaries}
    found: dict[int, Analysis] = {}
    for submission in submissions:
        own = submission.take
        earlier = [a for a in newest.values() if a.take.task_id == own.task_id and a.take.number < own.number]
        if earlier:
            found[own.pk] = max(earlier, key=lambda a: a.take.number)
    return found


def strange_in(take: Take) -> str:
    """What sets a take apart from the others, in words; nothing for most."""
    if take.state == TakeState.UNUSABLE:
        return take.trouble or worded("This recording could not be judged.")
    same = take.same_as
    if same is None:
        return ""
    if same.task_id == take.task_id:
        return worded("By its timing this is the same recording as their own take {number}.", number=same.number)
    return worded(
        "By its timing this is the same recording as {student}’s take {number}.", student=same.task.enrolment.student, number=same.number
    )


def next_to_hear(teacher: Person, after: Submission | None = None, answered: int | None = None) -> int | None:
    """The submission that lies next on the desk after one, from the top again at the end; None where nothing else waits.

    ``answered``: another that will be answered by then.
    """
    waiting: SubmissionQuerySet = Submission.objects.awaiting_review_by(teacher)
    order = [pk for pk in waiting.in_desk_order().values_list("pk", flat=True) if pk != answered]
    if after is not None and after.pk in order:
        at = order.index(after.pk)
        order = order[at + 1 :] + order[:at]
    return order[0] if order else None
