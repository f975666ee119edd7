from __future__ import annotations

from collections.abc import Iterator

from didactor.core.causes.case import Case
from didactor.core.causes.registry import Cause, cause
from didactor.core.words import _, worded

WHITE = {0, 2, 4, 5, 7, 9, 11}
#: So many, and this share of all wrong notes: then it is where the finger fell, not what was read.
FEWEST, LEAST_SHARE = 2, 0.75


@cause("neighbour_key")
def neighbour_key(case: Case) -> Iterator[Cause]:
    """On a keyboard most wrong notes are the key beside the right one."""
    if not case.result.instrument.fingering.startswith("keyboard"):
        return
    beside = [f for f in case.wrong if f.note.heard_midi is not None and _are_neighbours(f.note.sounding_midi, f.note.heard_midi)]
    if len(beside) < FEWEST or len(beside) < LEAST_SHARE * len(case.wrong):
        return
    says = _("What is wrong is mostly the key beside the right one ({bars}): the hand is not quite where it should be before it plays.")
    yield Cause.of(beside, code="neighbour_key", title=worded("The key beside it"), category="notes", says=says, confidence=0.8)


def _are_neighbours(one: int, other: int) -> bool:
    """A semitone apart, or two white keys side by side."""
    return abs(one - other) == 1 or (abs(one - other) == 2 and one % 12 in WHITE and other % 12 in WHITE)
