from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import bar_and_beat
from didactor.core.score.expected import ExpectedNote
from didactor.core.words import _, worded


@check(code="flow.unplayed", title=_("Beginning or end not played"), category="flow", unit="notes", reference="first and last aligned note")
def unplayed(evidence: Evidence) -> Iterator[Finding]:
    """The take begins after the passage's first note or ends before its last."""
    heard = [i for i, n in enumerate(evidence.notes) if n.onset_s is not None]
    if not heard:
        return
    for stretch, edge, says in (
        (evidence.notes[: heard[0]], evidence.notes[heard[0]], _begins),
        (evidence.notes[heard[-1] + 1 :], evidence.notes[heard[-1]], _ends),
    ):
        missed = [n for n in stretch if n.status is Status.MISSED]
        if not missed:
            continue
        yield Finding(
            code="flow.unplayed",
            category="flow",
            text=says(evidence, edge.note),
            confidence=0.9,
            severity=9.0,
            bar=missed[0].note.bar,
            pass_=missed[0].note.pass_,
            beat=missed[0].note.beat,
            note_ids=tuple(n.note.id for n in missed),
            size=float(len(missed)),
            unit="notes",
            start_s=edge.onset_s,
            end_s=edge.offset_s,
        )


def _begins(evidence: Evidence, note: ExpectedNote) -> str:
    bar, beat = bar_and_beat(evidence.expectation, note)
    return worded("The take begins at bar {bar}, beat {beat}; what comes before is not played.", bar=bar, beat=beat)


def _ends(evidence: Evidence, note: ExpectedNote) -> str:
    bar, beat = bar_and_beat(evidence.expectation, note)
    return worded("The take ends after bar {bar}, beat {beat}; what follows is not played.", bar=bar, beat=beat)
