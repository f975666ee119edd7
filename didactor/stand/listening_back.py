"""Listening back: what checks each row of the list, the student's ear beside the machine's, what became of the last take's pins."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from didactor.assignments.checklists import OWN, title_of
from didactor.assignments.models import Assignment
from didactor.core.comparing.figures import Figure, figure_of
from didactor.core.comparing.own_ear import Agreement, Compared, Comparison, OwnMark, PinAnswered, answer_pins, compare
from didactor.core.formats.result import Result
from didactor.core.judging.categories import TITLES
from didactor.core.words import _, worded
from didactor.takes.models import SelfMark, SelfReview, Take, TakeState

#: What stands over each kind of place.
HEADINGS = {
    Agreement.BOTH: _("Heard by both"),
    Agreement.MISSED: _("You did not mark"),
    Agreement.TOO_HARD: _("Too hard on yourself"),
    Agreement.UNKNOWABLE: _("Only an ear can know"),
}


@dataclass(frozen=True, kw_only=True)
class Row:
    """One row of the checklist. ``checked_by``: which figure can check it, in words; empty where only an ear can."""

    name: str
    title: str
    mark: SelfMark | None
    checked_by: str


def rows_of_list(assignment: Assignment, entries: Sequence[tuple[str, str]], own: SelfReview | None) -> list[Row]:
    """The rows with what was marked and what can check them."""
    marks = {m.row: m for m in own.marks.all() if not m.bar} if own else {}
    rows = []
    for name, title in entries:
        figure = _figure(assignment, name)
        rows.append(Row(name=name, title=title, mark=marks.get(name), checked_by=figure.title if figure else ""))
    return rows


def _figure(assignment: Assignment, row: str) -> Figure | None:
    if row.startswith(OWN):
        return figure_of("", assignment.own_row_figures.get(row.removeprefix(OWN), "ear"))
    return figure_of(row)


def own_marks(assignment: Assignment, own: SelfReview) -> list[OwnMark]:
    """A student's marks as the core compares them."""
    found = []
    for mark in own.marks.all():
        figure = assignment.own_row_figures.get(mark.text, "ear") if mark.is_own_row else ""
        title = title_of(mark.row) if mark.is_own_row else TITLES[mark.category]
        text = mark.text if mark.bar else ""
        found.append(OwnMark(category=mark.category, title=title, mend=mark.verdict == "mend", bar=mark.bar, text=text, figure=figure))
    return found


@dataclass(frozen=True, kw_only=True)
class Laid:
    """The two ears beside each other: groups of places under their headings, and how much was shared, in words."""

    groups: tuple[tuple[str, tuple[Compared, ...]], ...]
    shared: str


def laid_beside(take: Take, own: SelfReview | None, result: Result | None) -> Laid | None:
    """None before the student has listened, or where nothing was judged."""
    if own is None or own.done_at is None or result is None or result.notes is None:
        return None
    comparison = compare(own_marks(take.task.assignment, own), result)
    groups = tuple((HEADINGS[kind], comparison.of(kind)) for kind in HEADINGS if comparison.of(kind))
    return Laid(groups=groups, shared=_shared(comparison)) if groups else None


def _shared(comparison: Comparison) -> str:
    if comparison.shared is None:
        return worded("Too few places to say how good your ear was.")
    both, known = comparison.shared
    return worded("Of {known} places that could be known, {both} were heard by both of you.", known=known, both=both)


@dataclass(frozen=True, kw_only=True)
class PinsAnswered:
    """The pins of the take before, each with what became of it."""

    before: Take
    pins: tuple[PinAnswered, ...]


def pins_answered(take: Take, result: Result | None) -> PinsAnswered | None:
    """None where no earlier take of the same step has pins, or nothing was judged in one of them."""
    if result is None or result.notes is None:
        return None
    step = take.basis.get("step")
    earlier = take.task.takes.filter(number__lt=take.number, state=TakeState.ANALYSED, self_review__marks__bar__gt="").distinct()
    before = next((t for t in earlier.prefetch_related("analyses").order_by("-number") if t.basis.get("step") == step), None)
    if before is None or before.heard is None or before.basis["passage_id"] != take.basis["passage_id"]:
        return None
    pins = [m for m in own_marks(take.task.assignment, before.self_review) if m.bar and m.mend]
    return PinsAnswered(before=before, pins=answer_pins(pins, before.heard, result)) if pins else None
