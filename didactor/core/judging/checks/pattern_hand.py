from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import as_finding, counts_of, recurring
from didactor.core.judging.registry import Finding, pattern
from didactor.core.words import _, worded


@pattern(
    code="pattern.hand",
    title=_("One hand only"),
    category="hands",
    unit="notes",
    reference="hypergeometric test of faults in one staff against the other",
)
def hand(evidence: Evidence, findings: Sequence[Finding]) -> Iterator[Finding]:
    """Faults are nearly all in one hand: that hand wants practising alone."""
    staves = sorted({n.note.staff for n in evidence.notes})
    for staff in staves if len(staves) == 2 else ():
        for found in recurring(evidence, findings, lambda p, staff=staff: p.item.note.staff == staff):  # type: ignore[misc]
            yield as_finding(
                found,
                code="pattern.hand",
                category="hands",
                text=worded("In the right hand: {places} of {faults} {which}, in {bars}. Practise it alone.", **counts_of(found))
                if staff == 1
                else worded("In the left hand: {places} of {faults} {which}, in {bars}. Practise it alone.", **counts_of(found)),
            )
