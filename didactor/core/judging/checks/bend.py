from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded


@check(
    code="tempo.bend",
    title=_("The tempo bends"),
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
        fewer = {"first": first[0], "last": last[0], "share": 100 * found.share}
        yield Finding(
            code="tempo.bend",
            category="tempo",
            text=_in_words(found.share < 1, first == last, fewer, found.back),
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


def _in_words(broadens: bool, is_one: bool, values: dict[str, Any], back: str | None) -> str:
    if broadens:
        says = (
            worded("The tempo broadens in bar {first}, to {share:.0f} % of what is usual here.", **values)
            if is_one
            else worded("The tempo broadens in bars {first} to {last}, to {share:.0f} % of what is usual here.", **values)
        )
    else:
        says = (
            worded("The tempo presses on in bar {first}, to {share:.0f} % of what is usual here.", **values)
            if is_one
            else worded("The tempo presses on in bars {first} to {last}, to {share:.0f} % of what is usual here.", **values)
        )
    return worded("{says} It is back in bar {bar}.", says=says, bar=back) if back else says
