from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check


@check(
    code="tempo.off_target",
    title="Too fast or too slow",
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
        text=f"Played at {evidence.targets.in_words(tempo.played_qpm)}, {abs(tempo.deviation_percent):.0f} % "
        f"{'above' if tempo.verdict == 'fast' else 'below'} the target.",
        confidence=0.95,
        severity=5.5,
        size=tempo.deviation_percent,
        unit="percent",
    )
