from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check


@check(
    code="notes.transposed",
    title="Everything in another octave or key",
    category="notes",
    unit="semitones",
    reference="the constant shift with the cheapest alignment",
)
def transposed(evidence: Evidence) -> Iterator[Finding]:
    """All notes lie a constant interval from where they should sound: one cause, one remark."""
    shift = evidence.shift
    if shift == 0:
        return
    direction = "higher" if shift > 0 else "lower"
    if shift % 12 == 0:
        octaves = abs(shift) // 12
        size = "an octave" if octaves == 1 else f"{octaves} octaves"
        text = f"Everything sounds {size} {direction} than written."
    elif shift == -evidence.expectation.transposition:
        text = "The written notes were played at concert pitch: the transposition of this instrument was not made."
    else:
        text = f"Everything sounds {abs(shift)} semitones {direction} than it should."
    yield Finding(code="notes.transposed", category="notes", text=text, confidence=0.9, severity=9.5, size=float(shift), unit="semitones")
