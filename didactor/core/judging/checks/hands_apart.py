from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded

#: Hands within this time sound together; what comes from chance alone is left out.
FROM_MS, STEADY = 38.0, 3.0
FEWEST = 6


@check(
    code="hands.apart",
    title=_("Hands apart"),
    category="hands",
    unit="ms",
    reference="median onset of one staff minus the other, where both begin",
)
def hands_apart(evidence: Evidence) -> Iterator[Finding]:
    """One hand comes after the other nearly everywhere (Goebl 2001: a melody leads by up to 30 ms without being noticed)."""
    if not evidence.hands or evidence.targets.stage_rules.placement is None:
        return
    late = max(evidence.hands, key=lambda h: h.asynchrony_ms)
    if late.together < FEWEST or late.asynchrony_ms < max(FROM_MS, STEADY * late.spread_ms / late.together**0.5):
        return
    behind_s = late.asynchrony_ms / 1000
    yield Finding(
        code="hands.apart",
        category="hands",
        text=worded("The right hand comes {behind:.2f} s after the other where both should begin together.", behind=behind_s)
        if late.staff == 1
        else worded("The left hand comes {behind:.2f} s after the other where both should begin together.", behind=behind_s),
        confidence=0.8,
        severity=5.8,
        size=late.asynchrony_ms,
        unit="ms",
    )
