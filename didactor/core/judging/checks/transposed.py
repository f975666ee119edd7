from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, counted, worded


@check(
    code="notes.transposed",
    title=_("Everything in another octave or key"),
    category="notes",
    unit="semitones",
    reference="the constant shift with the cheapest alignment",
)
def transposed(evidence: Evidence) -> Iterator[Finding]:
    """All notes lie a constant interval from where they should sound: one cause, one remark."""
    shift = evidence.shift
    if shift == 0:
        return
    if shift % 12 == 0:
        text = (
            counted(
                "Everything sounds an octave higher than written.", "Everything sounds {count} octaves higher than written.", shift // 12
            )
            if shift > 0
            else counted(
                "Everything sounds an octave lower than written.", "Everything sounds {count} octaves lower than written.", -shift // 12
            )
        )
    elif shift == -evidence.expectation.transposition:
        text = worded("The written notes were played at concert pitch: the transposition of this instrument was not made.")
    else:
        text = (
            counted(
                "Everything sounds {count} semitone higher than it should.",
                "Everything sounds {count} semitones higher than it should.",
                shift,
            )
            if shift > 0
            else counted(
                "Everything sounds {count} semitone lower than it should.",
                "Everything sounds {count} semitones lower than it should.",
                -shift,
            )
        )
    yield Finding(code="notes.transposed", category="notes", text=text, confidence=0.9, severity=9.5, size=float(shift), unit="semitones")
