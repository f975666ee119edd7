from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded


@check(code="flow.restart", title=_("Restart"), category="flow", unit="bars", reference="a jump back in the alignment")
def restart(evidence: Evidence) -> Iterator[Finding]:
    """The playing breaks off, goes back and starts again. Free while reading for the first time."""
    if evidence.targets.stage_rules.hesitations != "fault":
        return
    for jump in evidence.restarts:
        note = evidence.expectation.notes[jump.to_index]
        text, severity = (
            worded("Breaks off in bar {from_bar} and starts again from bar {to_bar}.", from_bar=jump.from_bar, to_bar=jump.to_bar),
            7.5,
        )
        if jump.to_index == 0 and jump.from_index == len(evidence.notes) - 1:
            text, severity = worded("Played to the end and then once more from the beginning; the last time is judged."), 3.0
        yield Finding(
            code="flow.restart",
            category="flow",
            text=text,
            confidence=0.85,
            severity=severity,
            bar=jump.to_bar,
            pass_=note.pass_,
            beat=note.beat,
            note_ids=(note.id,),
            unit="bars",
            start_s=max(0.0, jump.time_s - 1.5),
            end_s=jump.time_s + 0.5,
        )
