from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

from didactor.core.causes.case import Case
from didactor.core.causes.registry import Cause, cause
from didactor.core.units import pitch_to_midi
from didactor.core.words import _, worded


@cause("string_crossing")
def string_crossing(case: Case) -> Iterator[Cause]:
    """On a bowed instrument faults come where the bow goes over to another string, and hardly elsewhere."""
    kind, _space, tuning = case.result.instrument.fingering.partition(" ")
    if kind != "strings":
        return
    open_strings = sorted(pitch_to_midi(name[0], 0, int(name[-1])) for name in tuning.split())
    written = [case.written[note.id] for note in case.order]
    places = {
        after.id
        for before, after in pairwise(written)
        if _string(before.sounding_midi, open_strings) != _string(after.sounding_midi, open_strings) and after.id not in case.moves
    }
    found = case.concentrated(places)
    if not found:
        return
    says = _("It goes wrong where the bow crosses to another string ({bars}): cross on open strings first.")
    yield Cause.of(found, code="string_crossing", title=worded("Crossing strings"), category="hands", says=says, confidence=0.75)


def _string(midi: int, open_strings: list[int]) -> int:
    """The highest string on which a note lies in the first position."""
    return max((k for k, low in enumerate(open_strings) if low <= midi), default=0)
