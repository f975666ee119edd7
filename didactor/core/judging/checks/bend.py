from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check


@check(
    code="tempo.bend",
    title="The tempo bends",
    category="tempo",
    unit="share",
    reference="time of whole bars against the take's usual bar; a fault only where an even pulse is what is practised",
)
def bend(evidence: Evidence) -> Iterator[Finding]:
    """A stretch of bars broadens or presses on: one remark with its extent. Elsewhere it is how a phrase breathes, and only shown."""
    if not evidence.targets.stage_rules.even_pulse or evidence.inferred:
        return
    for found in evidence.bends:
        first, last = found.bars[0], found.bars[-1]
        where = f"bar {first[0]}" if first == last else f"bars {first[0]} to {last[0]}"
        does = "broadens" if found.share < 1 else "presses on"
        back = f", back in bar {found.back}" if found.back else ""
        yield Finding(
            code="tempo.bend",
            category="tempo",
            text=f"The tempo {does} in {where}, to {100 * found.share:.0f} % of what is usual here{back}.",
            confidence=0.9,
            severity=4.4,
            bar=first[0],
            pass_=first[1],
            beat=0.0,
            size=found.share,
            unit="share",
            start_s=found.start_s,
            end_s=found.end_s,
        )
