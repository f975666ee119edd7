from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

from didactor.core.causes.case import Case
from didactor.core.causes.registry import Cause, cause
from didactor.core.words import _, worded

#: A leap this wide changes the register on a wind instrument; the clarinet's break lies between these written notes (B flat 4 and B 4).
LEAP, CLARINET_BREAK = 9, 70


@cause("register_change")
def register_change(case: Case) -> Iterator[Cause]:
    """On a wind instrument faults come where the register changes, and hardly elsewhere."""
    instrument = case.result.instrument
    if instrument.family not in ("woodwind", "brass"):
        return
    written = [case.written[note.id] for note in case.order]
    places = {after.id for before, after in pairwise(written) if abs(after.sounding_midi - before.sounding_midi) >= LEAP}
    if instrument.slug == "clarinet":
        shift = -instrument.transposition
        high = {note.id: note.sounding_midi + shift > CLARINET_BREAK for note in written}
        places |= {after.id for before, after in pairwise(written) if high[before.id] != high[after.id]}
    found = case.concentrated(places)
    if not found:
        return
    says = _("It goes wrong where the register changes ({bars}): air and embouchure are ready too late.")
    yield Cause.of(found, code="register_change", title=worded("The register changes"), category="tone", says=says, confidence=0.75)
