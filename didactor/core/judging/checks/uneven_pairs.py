from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import FROM_PERCENT, limp
from didactor.core.words import _, worded


@check(
    code="rhythm.uneven",
    title=_("Uneven pairs"),
    category="rhythm",
    unit="percent",
    reference="first note's share of a written-equal pair; median over the take (Friberg & Sundström 2002 for the measure)",
)
def uneven_pairs(evidence: Evidence) -> Iterator[Finding]:
    """Pairs of equal notes limp the same way throughout: one remark about the pattern."""
    middle = limp(evidence)
    if evidence.targets.stage_rules.placement is None or middle is None:
        return
    bars = list(dict.fromkeys(p.bar for p in evidence.pairs if abs(p.ratio_percent - 50) >= FROM_PERCENT))
    yield Finding(
        code="rhythm.uneven",
        category="rhythm",
        text=worded(
            "Pairs are uneven: the first note takes {middle:.0f} % of the two (50 % is even), in bars {bars}.",
            middle=middle,
            bars=", ".join(bars[:8]),
        ),
        confidence=0.85,
        severity=6.2,
        size=middle,
        unit="percent",
    )
