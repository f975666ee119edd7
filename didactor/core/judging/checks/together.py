from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

from didactor.core.judging.evidence import Apart, Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded

#: A bar is ahead of the accompaniment or behind it from the larger of these on; shorter than two bars it is a matter of single notes.
FROM_BEATS, FROM_S, FEWEST_BARS = 0.2, 0.12, 2


@check(
    code="rhythm.together",
    title=_("With the accompaniment"),
    category="rhythm",
    unit="beats",
    reference="median of a bar's onsets against the accompaniment's timeline",
)
def together(evidence: Evidence) -> Iterator[Finding]:
    """Bars one after the other are ahead of the accompaniment, or behind it."""
    if evidence.targets.stage_rules.placement is None:
        return
    for side, bars in groupby(evidence.apart or (), key=side_of):
        stretch = list(bars)
        if side == 0 or len(stretch) < FEWEST_BARS:
            continue
        worst = max(stretch, key=lambda bar: abs(bar.beats))
        values = {"first": stretch[0].bar, "last": stretch[-1].bar, "beats": abs(worst.beats), "bar": worst.bar}
        yield Finding(
            code="rhythm.together",
            category="rhythm",
            text=worded("Bars {first} to {last} are ahead of the accompaniment, by {beats:.1f} beats in bar {bar}.", **values)
            if side < 0
            else worded("Bars {first} to {last} are behind the accompaniment, by {beats:.1f} beats in bar {bar}.", **values),
            confidence=0.85,
            severity=6.5,
            bar=stretch[0].bar,
            pass_=stretch[0].pass_,
            beat=0.0,
            size=worst.beats,
            unit="beats",
            start_s=stretch[0].time_s,
            end_s=stretch[-1].time_s + 1.0,
        )


def side_of(bar: Apart) -> int:
    """-1 ahead, 1 behind, 0 with the accompaniment."""
    if abs(bar.beats) < FROM_BEATS or abs(bar.late_s) < FROM_S:
        return 0
    return -1 if bar.beats < 0 else 1
