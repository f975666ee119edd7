from __future__ import annotations

from collections.abc import Iterator

from didactor.core.causes.case import Case, Fault
from didactor.core.causes.registry import Cause, cause
from didactor.core.hearing.hearing import Status
from didactor.core.words import _

#: One hand comes so much after the other at a moment that both begin, so often; the other way round hardly ever.
LATE_S, FEWEST, OTHER_SHARE = 0.08, 3, 0.25


LATE = {
    1: (_("The right hand is not ready"), _("The right hand comes late ({bars}): it has to be over its keys before its turn.")),
    2: (_("The left hand is not ready"), _("The left hand comes late ({bars}): it has to be over its keys before its turn.")),
}


@cause("hand_late")
def hand_late(case: Case) -> Iterator[Cause]:
    """Of two hands one comes late again and again: it is not prepared in time."""
    moments: dict[tuple[str, int, float], dict[int, Fault]] = {}
    for index, note in enumerate(case.order):
        if note.status is Status.CORRECT and note.onset_s is not None:
            moments.setdefault((note.bar, note.pass_, note.beat), {})[note.staff] = Fault(index=index, note=note, kind="late")
    late: dict[int, list[Fault]] = {1: [], 2: []}
    for found in moments.values():
        if set(found) != {1, 2}:
            continue
        apart = (found[2].note.onset_s or 0.0) - (found[1].note.onset_s or 0.0)
        if abs(apart) >= LATE_S:
            late[2 if apart > 0 else 1].append(found[2 if apart > 0 else 1])
    for staff, other in ((1, 2), (2, 1)):
        own, theirs = late[staff], late[other]
        if len(own) < FEWEST or len(theirs) > OTHER_SHARE * len(own):
            continue
        title, says = LATE[staff]
        yield Cause.of(own, code="hand_late", title=title, category="hands", says=says, confidence=0.8)
