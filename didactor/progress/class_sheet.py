"""One assignment, all students: bars across, students down, what many share in words, and what the page needs to play any of it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.db.models import Prefetch
from django.urls import reverse

from didactor.assignments.models import Assignment
from didactor.core.comparing.together import Common, Place, Student, common_faults
from didactor.core.formats.glance import UNJUDGED, BarCell
from didactor.core.instruments import BY_SLUG
from didactor.library.desk import pin_to_bar
from didactor.people.models import Person
from didactor.review import services as review_services
from didactor.takes.models import Analysis, Submission, Take, TakeState
from didactor.takes.strips import strip_of

#: A bar sounds from a little before its first note was heard.
BEFORE_S = 0.12
#: What is played of the last bar that was heard.
LAST_BAR_S = 3.0
#: How much louder takes may be than the quietest: nothing is turned up, so nothing is clipped.
QUIETEST_DB = -24.0


@dataclass(frozen=True, kw_only=True)
class Cell:
    """A student's bar: what is worst in it, the same in words, and when it sounds in their take (None where it was not played)."""

    worst: str
    words: str
    start_s: float | None = None
    end_s: float | None = None


@dataclass(frozen=True, kw_only=True)
class Row:
    take: Take
    cells: Sequence[Cell | None]

    @property
    def student(self) -> Person:
        found: Person = self.take.task.enrolment.student
        return found

    @property
    def family(self) -> str:
        return _family(self.take)


@dataclass(frozen=True, kw_only=True)
class Sheet:
    """``feet``: under each bar, how many have something to mend in it of how many judged, and what many do there, in words."""

    bars: Sequence[str]
    rows: Sequence[Row]
    common: Sequence[Common]
    feet: Sequence[tuple[int, int, str]]
    without: int


def submissions_of(assignment: Assignment) -> list[Submission]:
    """The newest that each student handed in, by family of instrument and name."""
    heard = Prefetch("take__analyses", queryset=Analysis.objects.defer("result", "parameters", "tone"))
    found = (
        Submission.objects.filter(take__task__assignment=assignment)
        .select_related("take__task__enrolment__student", "review")
        .prefetch_related(heard)
        .defer("take__peaks")
        .order_by("take__task_id", "-take__number")
        .distinct("take__task_id")
    )
    rows = list(found)
    for submission in rows:
        submission.take.task.assignment = assignment
    return sorted(rows, key=lambda s: (_family(s.take), s.take.task.enrolment.instrument, s.take.task.enrolment.student.name))


def _family(take: Take) -> str:
    found = BY_SLUG.get(take.task.enrolment.instrument)
    return found.family if found else ""


def sheet_of(assignment: Assignment, bars: Sequence[str], beat_quarters: float) -> Sheet:
    """The whole sheet. ``bars``: the passage's, in order; ``beat_quarters``: the beat as it is counted."""
    takes = [submission.take for submission in submissions_of(assignment)]
    heard = [take for take in takes if take.state == TakeState.ANALYSED and take.latest_analysis]
    rows = [Row(take=take, cells=_cells(take, bars)) for take in heard]
    common = common_faults([student_of(take) for take in heard])
    feet = []
    for k, bar in enumerate(bars):
        cells = [row.cells[k] for row in rows]
        judged = [cell for cell in cells if cell is not None and cell.worst != UNJUDGED]
        words = " ".join(f"{one.says(beat_quarters)}." for one in common if one.bar == bar)
        feet.append((sum(bool(cell.worst) for cell in judged), len(judged), words))
    return Sheet(bars=bars, rows=rows, common=common, feet=feet, without=len(takes) - len(heard))


def student_of(take: Take) -> Student:
    """What was heard in a take, for comparing it with others'."""
    analysis = take.latest_analysis
    summary = analysis.summary if analysis else {}
    judged = frozenset(number for number, worst, _ in summary.get("strip", []) if worst != UNJUDGED)
    names = ("code", "category", "bar", "beat", "size", "start_s", "end_s")
    places = [Place(**dict(zip(names, values, strict=True))) for values in summary.get("places", [])]
    return Student(key=take.pk, instrument=take.task.enrolment.instrument, judged=judged, places=places)


def _cells(take: Take, bars: Iterable[str]) -> list[Cell | None]:
    strip: dict[str, BarCell] = {cell.number: cell for cell in strip_of(take.latest_analysis)}
    spans = spans_of(take.latest_analysis)
    cells: list[Cell | None] = []
    for bar in bars:
        known = strip.get(bar)
        start_s, end_s = spans.get(bar, (None, None))
        cells.append(Cell(worst=known.worst, words=known.words, start_s=start_s, end_s=end_s) if known else None)
    return cells


def spans_of(analysis: Analysis | None) -> dict[str, tuple[float, float]]:
    """When each bar sounds in a take, the first time it is played, from its first moment to the next bar's."""
    first: dict[tuple[str, int], float] = {}
    for bar, pass_, _, at_s in analysis.moments if analysis else []:
        key = (bar, pass_)
        first[key] = min(first.get(key, at_s), at_s)
    times = sorted(first.values())
    spans: dict[str, tuple[float, float]] = {}
    for (bar, _), at_s in sorted(first.items(), key=lambda entry: entry[1]):
        following = next((t for t in times if t > at_s), at_s + LAST_BAR_S)
        spans.setdefault(bar, (max(0.0, at_s - BEFORE_S), following))
    return spans


def sounds_of(sheet: Sheet) -> list[dict[str, Any]]:
    """What the browser needs to play takes at equal loudness: their sounds, delays, and gains of at most 1."""
    levels = [row.take.loudness_lufs for row in sheet.rows if row.take.loudness_lufs is not None]
    aim = min(levels, default=0.0)
    return [
        {
            "sound": reverse("takes:sound", args=[row.take.pk]) if row.take.playback else None,
            "take": row.take.pk,
            "name": row.student.name,
            "delay": row.take.playback_delay_s,
            "gain": 1.0 if (own := row.take.loudness_lufs) is None else round(10 ** (max(QUIETEST_DB, aim - own) / 20), 4),
            "bars": [
                None if cell is None or cell.start_s is None else [round(cell.start_s, 3), round(cell.end_s or 0, 3)] for cell in row.cells
            ],
        }
        for row in sheet.rows
    ]


def _span(cell: Cell | None) -> list[float] | None:
    return None if cell is None or cell.start_s is None or cell.end_s is None else [round(cell.start_s, 3), round(cell.end_s, 3)]


@transaction.atomic
def remark_to_all(*, assignment: Assignment, teacher: Person, common: Common, text: str) -> tuple[int, int]:
    """The same words, pinned to the same place, into the drafts of all these takes' answers; how many got it, and how many were answered.

    A draft that has these words there already gets them no second time. Raises ``ReviewRefused`` for no words.
    """
    given = answered = 0
    wanted = set(common.who)
    for submission in submissions_of(assignment):
        if submission.take_id not in wanted:
            continue
        if submission.answered_at is not None:
            answered += 1
            continue
        review = review_services.open_review(submission=submission, teacher=teacher)
        if review.marks.filter(text=text.strip(), bar=common.bar).exists():
            continue
        review_services.add_remark(review=review, category=common.category, text=text, bar=common.bar, beat=common.beat)
        given += 1
    return given, answered


def warn_all(*, assignment: Assignment, bar: str, text: str) -> None:
    """The same words as a remark on the passage's own bar, for all who will play it. Raises ``PassageError`` for no words."""
    passage = assignment.passage
    pin_to_bar(passage=passage, version=passage.version, bar=bar, text=text)
