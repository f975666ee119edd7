from __future__ import annotations

from collections.abc import Iterator

from didactor.core.causes.case import Case
from didactor.core.causes.registry import Cause, cause
from didactor.core.words import _

_SHIFT = (_("A shift"), _("It goes wrong where the hand shifts ({bars}), and hardly elsewhere: prepare the move, look before you go."))
#: Fingering charts to what a move of the hand is called there, and what is said.
CALLED = {
    "keyboard": (
        _("The hand moves"),
        _("It goes wrong where the hand leaves its place ({bars}), and hardly elsewhere: prepare the move, look before you go."),
    ),
    "strings": _SHIFT,
    "frets": _SHIFT,
}


@cause("hand_move")
def hand_move(case: Case) -> Iterator[Cause]:
    """Faults come where the hand leaves its position, and hardly elsewhere."""
    kind = case.result.instrument.fingering.partition(" ")[0]
    if kind not in CALLED or not case.moves:
        return
    found = case.concentrated(case.moves)
    if not found:
        return
    title, says = CALLED[kind]
    yield Cause.of(found, code="hand_move", title=title, category="hands", says=says, confidence=0.8)
