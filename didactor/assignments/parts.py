"""Who gets which part: what the assigning page shows of each student's instrument, and what comes back from it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from didactor.library.arrangements import LEAVE_OUT, Offer, Part, part_for
from didactor.library.models import Passage
from didactor.people.models import Enrolment

FIELD = "part-"


@dataclass(frozen=True, kw_only=True)
class PartRow:
    """Students of one instrument and level, whose part is the same; ``names`` of the fields their choice is sent in."""

    part: Part
    enrolments: tuple[Enrolment, ...]
    chosen: str

    @property
    def field(self) -> str:
        return f"{FIELD}{self.enrolments[0].instrument}-{self.enrolments[0].level}"

    @property
    def students(self) -> str:
        return ", ".join(e.student.name for e in self.enrolments)

    @property
    def offer(self) -> Offer | None:
        return self.part.offer(self.chosen)

    @property
    def span(self) -> str:
        return self.part.span_in_words(self.offer) if self.offer and self.part.key_in_words else ""

    @property
    def fits(self) -> bool:
        return self.offer is None or self.offer.fits


def part_rows(passage: Passage, enrolments: Iterable[Enrolment], sent: Mapping[str, str]) -> list[PartRow]:
    """A row for each instrument and level among the students; those whose part does not fit come first."""
    groups: dict[tuple[str, str], list[Enrolment]] = {}
    for enrolment in enrolments:
        groups.setdefault((enrolment.instrument, enrolment.level), []).append(enrolment)
    rows = []
    for (instrument, level), own in groups.items():
        part = part_for(passage=passage, instrument=instrument, level=level)
        wanted = sent.get(f"{FIELD}{instrument}-{level}", "")
        known = wanted == LEAVE_OUT or part.offer(wanted) is not None
        rows.append(PartRow(part=part, enrolments=tuple(own), chosen=wanted if known else part.offers[0].value))
    return sorted(rows, key=lambda r: (r.fits, r.part.instrument.title))


def chosen_parts(passage: Passage, enrolments: Iterable[Enrolment], sent: Mapping[str, str]) -> dict[int, str]:
    """Enrolment to what was chosen for it."""
    return {e.pk: row.chosen for row in part_rows(passage, enrolments, sent) for e in row.enrolments}
