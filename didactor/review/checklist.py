"""The checklist on the desk: the student's verdicts, the teacher's, and what the figures say where they can know."""

from __future__ import annotations

from dataclasses import dataclass

from didactor.assignments.checklists import OWN
from didactor.core.comparing.figures import figure_of
from didactor.core.formats.result import Result
from didactor.core.words import worded
from didactor.review.models import Review
from didactor.takes.models import Take


@dataclass(frozen=True, kw_only=True)
class Row:
    """One row. ``own``: what the student said of it; ``heard``: ``good``, ``mend``, ``unheard`` or nothing, by the figure that checks it;
    ``proof``: where that can be heard, seconds; ``because``: the same in words.
    """

    slug: str
    title: str
    own: str
    verdict: str
    heard: str
    proof: tuple[float, float] | None = None
    because: str = ""


def checklist_of(take: Take, review: Review, result: Result | None) -> list[Row]:
    """The assignment's rows, in order."""
    own = getattr(take, "self_review", None)
    said = {m.row: worded("as meant") if m.verdict == "good" else worded("to mend") for m in own.marks.all() if not m.bar} if own else {}
    chosen = take.task.assignment.own_row_figures
    rows = []
    for slug, title in take.task.assignment.checklist_entries:
        figure = figure_of(slug, chosen.get(slug.removeprefix(OWN), "ear") if slug.startswith(OWN) else "")
        heard, proof, because = "", None, ""
        if figure is not None and result is not None and not figure.heard(result):
            heard, because = "unheard", worded("Could not be judged in this recording ({title}).", title=figure.title)
        elif figure is not None and result is not None:
            against = [f for f in result.findings or () if figure.contradicts(f)]
            heard = "mend" if against else "good"
            first = next((f for f in against if f.start_s is not None and f.end_s is not None), None)
            proof = (first.start_s, first.end_s) if first and first.start_s is not None and first.end_s is not None else None
            because = against[0].text if against else worded("Nothing against it was heard ({title}).", title=figure.title)
        verdict = review.checklist.get(slug, "")
        rows.append(Row(slug=slug, title=title, own=said.get(slug, ""), verdict=verdict, heard=heard, proof=proof, because=because))
    return rows
