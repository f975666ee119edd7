from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check

#: Players bring a melody out by a few dB; one that is softer than what accompanies it by this much is covered
#: (even touch measures down to -5 dB on some instruments).
COVERED_DB = 8.0


@check(
    code="dynamics.upper_voice",
    title="Upper voice covered",
    category="dynamics",
    unit="dB",
    reference="median level of the upper staff's highest note against the lower staff's loudest, where both begin, A-weighted",
)
def upper_voice(evidence: Evidence) -> Iterator[Finding]:
    """The lower voice is louder than the upper one nearly everywhere (melodies are led by 3-10 dB; Repp 1996)."""
    if not evidence.hands or evidence.targets.stage == "first_reading":
        return
    upper = evidence.hands[0]
    if upper.balance_db is None or upper.balance_db > -COVERED_DB:
        return
    yield Finding(
        code="dynamics.upper_voice",
        category="dynamics",
        text=f"The lower voice covers the upper one: it is about {-upper.balance_db:.0f} dB louder. Let the melody lead.",
        confidence=0.7,
        severity=4.4,
        size=upper.balance_db,
        unit="dB",
    )
