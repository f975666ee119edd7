from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import WORDS, as_finding, bars_in_words, recurring
from didactor.core.judging.registry import Finding, pattern


@pattern(
    code="pattern.hand",
    title="One hand only",
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
                text=f"In the {'right' if staff == 1 else 'left'} hand: {len(found.places)} of {found.faults} {WORDS[found.code]}, "
                f"in {bars_in_words(found)}. Practise it alone.",
            )
