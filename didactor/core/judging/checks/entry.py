from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded

#: An entry is late or early from this share of a beat and this time on.
FROM_BEATS, FROM_S = 0.25, 0.15


@check(code="rhythm.entry", title=_("Entry"), category="rhythm", unit="beats", reference="first note against count-off or introduction")
def entry(evidence: Evidence) -> Iterator[Finding]:
    """The first note does not come where the count-off leads to."""
    reading = evidence.entry
    if reading is None or evidence.targets.stage_rules.placement is None:
        return
    beats = reading.early_late_quarters / evidence.expectation.bars[0].beat_quarters
    if abs(beats) < FROM_BEATS or abs(reading.time_s - reading.due_s) < FROM_S:
        return
    yield Finding(
        code="rhythm.entry",
        category="rhythm",
        text=(
            worded("The entry comes {beats:.1f} beats early.", beats=abs(beats))
            if beats < 0
            else worded("The entry comes {beats:.1f} beats late.", beats=abs(beats))
        ),
        confidence=0.85,
        severity=6.8,
        bar=evidence.expectation.notes[0].bar,
        pass_=evidence.expectation.notes[0].pass_,
        beat=evidence.expectation.notes[0].beat,
        note_ids=(evidence.expectation.notes[0].id,),
        size=beats,
        unit="beats",
        start_s=max(0.0, min(reading.due_s, reading.time_s) - 1.0),
        end_s=max(reading.due_s, reading.time_s) + 0.5,
    )
