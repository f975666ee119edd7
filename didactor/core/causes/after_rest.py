from __future__ import annotations

from collections.abc import Iterator

from didactor.core.causes.case import Case
from didactor.core.causes.registry import Cause, cause
from didactor.core.words import _, worded

#: A silence of so many quarters before a note makes an entry of it.
REST_QUARTERS = 0.5


@cause("after_rest")
def after_rest(case: Case) -> Iterator[Cause]:
    """Faults come at the first note after a rest, and hardly elsewhere."""
    starts, at = {}, 0.0
    for bar in case.part.bars:
        starts[bar.index] = at
        at += bar.length_quarters
    reached: dict[int, float] = {}
    places = set()
    for note in sorted(case.part.notes, key=lambda n: (n.bar_index, n.onset_quarters)):
        begin = starts[note.bar_index] + note.onset_quarters
        if not note.grace and begin - reached.get(note.staff, begin) >= REST_QUARTERS - 1e-6:
            places.add(note.id)
        reached[note.staff] = max(reached.get(note.staff, 0.0), begin + note.duration_quarters)
    found = case.concentrated(places)
    if not found:
        return
    says = _("It goes wrong at the first note after a rest ({bars}): the rest is not counted through.")
    yield Cause.of(found, code="after_rest", title=worded("After the rest"), category="rhythm", says=says, confidence=0.8)
