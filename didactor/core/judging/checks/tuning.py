from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check

FROM_CENTS = 20.0
#: Below this concentration of the pitches around one grid there is no common tuning to speak of.
MIN_CONCENTRATION = 0.5


@check(
    code="intonation.tuning",
    title="Instrument out of tune",
    category="intonation",
    unit="cents",
    reference="median of the notes' steady parts against equal temperament at 440 Hz, where they lie around one grid",
)
def tuning(evidence: Evidence) -> Iterator[Finding]:
    """The whole take lies above or below concert pitch; one remark instead of one for every note."""
    if evidence.tuning is None:
        return
    offset = evidence.tuning.offset_cents
    if abs(offset) >= FROM_CENTS and evidence.tuning.concentration >= MIN_CONCENTRATION:
        yield Finding(
            code="intonation.tuning",
            category="intonation",
            text=f"The instrument is {abs(offset):.0f} cents {'sharp' if offset > 0 else 'flat'} throughout "
            f"(A = {evidence.tuning.a4_hz:.0f} Hz). Tune before playing.",
            confidence=evidence.tuning.concentration,
            severity=6.5,
            size=offset,
            unit="cents",
        )
