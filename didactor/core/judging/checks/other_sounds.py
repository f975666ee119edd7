from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import others_sound
from didactor.core.words import _, worded


@check(
    code="other.sounds",
    title=_("Others sound along"),
    category="other",
    unit="notes",
    reference="sounds that belong to no written note, against the number of notes",
)
def other_sounds(evidence: Evidence) -> Iterator[Finding]:
    """So much sounds that is not written that it is hardly the player: somebody else plays, or a recording runs."""
    if others_sound(evidence):
        yield Finding(
            code="other.sounds",
            category="other",
            text=worded("Other notes sound along, as if somebody else played or a recording ran: what is judged here may be theirs."),
            confidence=0.7,
            severity=8.2,
            size=float(len(evidence.extra)),
            unit="notes",
        )
