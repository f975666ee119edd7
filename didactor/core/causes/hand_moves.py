from __future__ import annotations

from collections.abc import Iterator

from didactor.core.causes.case import Case
from didactor.core.causes.registry import Cause, cause

#: Fingering charts to what a move of the hand is called there.
_SHIFT = ("A shift", "the hand shifts")
CALLED = {"keyboard": ("The hand moves", "the hand leaves its place"), "strings": _SHIFT, "frets": _SHIFT}


@cause("hand_move")
def hand_move(case: Case) -> Iterator[Cause]:
    """Faults come where the hand leaves its position, and hardly elsewhere."""
    kind = case.result.instrument.fingering.partition(" ")[0]
    if kind not in CALLED or not case.moves:
        return
    found = case.concentrated(case.moves)
    if not found:
        return
    title, words = CALLED[kind]
    says = f"It goes wrong where {words} (BARS), and hardly elsewhere: prepare the move, look before you go."
    yield Cause.of(found, code="hand_move", title=title, category="hands", says=says, confidence=0.8)
