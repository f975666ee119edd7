from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.checks.together import side_of
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded

#: A steady drift is noticed from about this change of tempo over the take, per cent; the pulse's own wander reaches 8.
FROM_TOTAL_PERCENT = 9.0
MIN_CONFIDENCE = 0.75


@check(
    code="tempo.drift",
    title=_("Rushing or dragging"),
    category="tempo",
    unit="percent per bar",
    reference="straight line through the logarithm of the tempo map's slope",
)
def drift(evidence: Evidence) -> Iterator[Finding]:
    """The tempo rises or falls steadily from beginning to end."""
    per_bar = evidence.tempo.drift_percent_per_bar
    if evidence.targets.stage_rules.tempo is None or per_bar is None or evidence.tempo.drift_confidence < MIN_CONFIDENCE:
        return
    # With an accompaniment it is heard where the two come apart, and told there.
    if any(map(side_of, evidence.apart or ())):
        return
    curve = evidence.tempo.curve
    if len(curve) < 8:
        return
    start, end = curve[0], curve[-1]
    total = 100 * (end.qpm / start.qpm - 1)
    if abs(total) < FROM_TOTAL_PERCENT or total * per_bar < 0:
        return
    yield Finding(
        code="tempo.drift",
        category="tempo",
        text=(
            worded(
                "The tempo rises steadily, from {start} to {end:.0f}.",
                start=evidence.targets.in_words(start.qpm),
                end=evidence.targets.beats_per_minute(end.qpm),
            )
            if per_bar > 0
            else worded(
                "The tempo falls steadily, from {start} to {end:.0f}.",
                start=evidence.targets.in_words(start.qpm),
                end=evidence.targets.beats_per_minute(end.qpm),
            )
        ),
        confidence=evidence.tempo.drift_confidence,
        severity=5.2,
        size=per_bar,
        unit="percent per bar",
        start_s=start.time_s,
        end_s=end.time_s,
    )
