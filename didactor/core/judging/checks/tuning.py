from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded

FROM_CENTS = 20.0
#: Below this concentration of the pitches around one grid there is no common tuning to speak of.
MIN_CONCENTRATION = 0.5


@check(
    code="intonation.tuning",
    title=_("Instrument out of tune"),
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
            text=(
                worded(
                    "The instrument is {offset:.0f} cents sharp throughout (A = {a4_hz:.0f} Hz). Tune before playing.",
                    offset=abs(offset),
                    a4_hz=evidence.tuning.a4_hz,
                )
                if offset > 0
                else worded(
                    "The instrument is {offset:.0f} cents flat throughout (A = {a4_hz:.0f} Hz). Tune before playing.",
                    offset=abs(offset),
                    a4_hz=evidence.tuning.a4_hz,
                )
            ),
            confidence=evidence.tuning.concentration,
            severity=6.5,
            size=offset,
            unit="cents",
        )
