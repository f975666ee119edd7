from __future__ import annotations

from collections.abc import Iterator

from didactor.core.causes.case import Case, Fault
from didactor.core.causes.registry import Cause, cause
from didactor.core.words import _, worded

#: One note may be chance.
FEWEST = 2


@cause("carried_on")
def carried_on(case: Case) -> Iterator[Cause]:
    """The figure of the bar before was played once more: two notes of a bar are those of the bar before, at the same places."""
    by_bar: dict[int, list[tuple[Fault, str]]] = {}
    for fault in case.wrong:
        note = case.written[fault.note.id]
        before = [n for n in case.at(note.bar_index - 1, note.onset_quarters, note.staff) if n.sounding_midi == fault.note.heard_midi]
        if before and fault.note.heard_midi != note.sounding_midi:
            by_bar.setdefault(note.bar_index, []).append((fault, before[0].id))
    for found in by_bar.values():
        if len({fault.note.id for fault, _note in found}) < FEWEST:
            continue
        says = _("In {bars} the figure of the bar before goes on by itself: its notes are played once more.")
        faults, points_to = [fault for fault, _note in found], [before for _, before in found]
        yield Cause.of(
            faults,
            code="carried_on",
            title=worded("The figure was carried on"),
            category="notes",
            says=says,
            confidence=0.85,
            points_to=points_to,
        )
