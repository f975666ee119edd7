from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import place_in_words
from didactor.core.words import _, worded


@check(
    code="flow.hesitation",
    title=_("Hesitation"),
    category="flow",
    unit="s",
    reference="extra time over half a metrical beat and 0.35 s before a note, which what follows does not make good",
)
def hesitation(evidence: Evidence) -> Iterator[Finding]:
    """The playing stops for a moment and goes on from there. Shown, not a fault, while reading for the first time."""
    if evidence.targets.stage_rules.hesitations != "fault":
        return
    for pause in evidence.hesitations:
        note = evidence.expectation.notes[pause.note_index]
        yield Finding(
            code="flow.hesitation",
            category="flow",
            text=worded(
                "{place}: a pause of {extra_s:.1f} s before this note.",
                place=place_in_words(evidence.expectation, note),
                extra_s=pause.extra_s,
            ),
            confidence=0.85,
            severity=7.0 + min(pause.extra_s / 3.0, 1.0),
            bar=pause.bar,
            pass_=pause.pass_,
            beat=pause.beat,
            note_ids=(note.id,),
            size=pause.extra_s,
            unit="s",
            start_s=max(0.0, pause.time_s - pause.extra_s - 0.5),
            end_s=pause.time_s + 0.3,
        )
