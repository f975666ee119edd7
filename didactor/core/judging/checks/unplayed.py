from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import place_in_words


@check(code="flow.unplayed", title="Beginning or end not played", category="flow", unit="notes", reference="first and last aligned note")
def unplayed(evidence: Evidence) -> Iterator[Finding]:
    """The take begins after the passage's first note or ends before its last."""
    heard = [i for i, n in enumerate(evidence.notes) if n.onset_s is not None]
    if not heard:
        return
    for stretch, words in (
        (evidence.notes[: heard[0]], "The take begins at {place}; what comes before is not played."),
        (evidence.notes[heard[-1] + 1 :], "The take ends after {place}; what follows is not played."),
    ):
        missed = [n for n in stretch if n.status is Status.MISSED]
        if not missed:
            continue
        edge = evidence.notes[heard[0]] if "begins" in words else evidence.notes[heard[-1]]
        place = place_in_words(evidence.expectation, edge.note)
        yield Finding(
            code="flow.unplayed",
            category="flow",
            text=words.format(place=place[0].lower() + place[1:]),
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
