from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded


@check(
    code="tempo.off_target",
    title=_("Too fast or too slow"),
    category="tempo",
    unit="percent",
    reference="quarters played over seconds taken, without hesitations, against the assigned band",
)
def off_target(evidence: Evidence) -> Iterator[Finding]:
    """The take's mean tempo lies outside the assigned band."""
    tempo = evidence.tempo
    if tempo.verdict not in ("fast", "slow") or tempo.played_qpm is None or tempo.deviation_percent is None:
        return
    yield Finding(
        code="tempo.off_target",
        category="tempo",
        text=(
            worded(
                "Played at {tempo}, {percent:.0f} % above the target.",
                tempo=evidence.targets.in_words(tempo.played_qpm),
                percent=abs(tempo.deviation_percent),
            )
            if tempo.verdict == "fast"
            else worded(
                "Played at {tempo}, {percent:.0f} % below the target.",
                tempo=evidence.targets.in_words(tempo.played_qpm),
                percent=abs(tempo.deviation_percent),
            )
        ),
        confidence=0.95,
        severity=5.5,
        size=tempo.deviation_percent,
        unit="percent",
    )
