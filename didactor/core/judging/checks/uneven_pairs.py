from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check

MIN_PAIRS = 5
FROM_PERCENT = 6.0


@check(
    code="rhythm.uneven",
    title="Uneven pairs",
    category="rhythm",
    unit="percent",
    reference="first note's share of a written-equal pair; median over the take (Friberg & Sundström 2002 for the measure)",
)
def uneven_pairs(evidence: Evidence) -> Iterator[Finding]:
    """Pairs of equal notes limp the same way throughout: one remark about the pattern."""
    if evidence.targets.stage_rules.placement is None or len(evidence.pairs) < MIN_PAIRS:
        return
    ratios = np.array([p.ratio_percent for p in evidence.pairs])
    middle = float(np.median(ratios))
    same_side = float((np.sign(ratios - 50) == np.sign(middle - 50)).mean())
    if abs(middle - 50) < FROM_PERCENT or same_side < 0.8:
        return
    bars = list(dict.fromkeys(p.bar for p in evidence.pairs if abs(p.ratio_percent - 50) >= FROM_PERCENT))
    yield Finding(
        code="rhythm.uneven",
        category="rhythm",
        text=f"Pairs are uneven: the first note takes {middle:.0f} % of the two (50 % is even), in bars {', '.join(bars[:8])}.",
        confidence=same_side,
        severity=6.2,
        size=middle,
        unit="percent",
    )
