from __future__ import annotations

from collections.abc import Iterator

from didactor.core.causes.case import Case
from didactor.core.causes.registry import Cause, cause

#: One hand is late so often, and the other one this much less.
FEWEST, OTHER_SHARE = 3, 0.25


@cause("hand_late")
def hand_late(case: Case) -> Iterator[Cause]:
    """Of two hands one comes late again and again: it is not prepared in time."""
    staves = sorted({note.staff for note in case.order})
    if len(staves) != 2:
        return
    late = {staff: [f for f in case.faults if f.kind == "late" and f.note.staff == staff] for staff in staves}
    for staff, other in (staves, staves[::-1]):
        own, theirs = late[staff], late[other]
        if len(own) < FEWEST or len(theirs) > OTHER_SHARE * len(own):
            continue
        hand = "right" if staff == 1 else "left"
        says = f"The {hand} hand comes late (BARS): it has to be over its keys before its turn."
        yield Cause.of(own, code="hand_late", title=f"The {hand} hand is not ready", category="hands", says=says, confidence=0.8)
