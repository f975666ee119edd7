from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import as_finding, counts_of, recurring
from didactor.core.judging.registry import Finding, pattern
from didactor.core.words import _, worded


@pattern(
    code="pattern.last_beat",
    title=_("Always on the last beat"),
    category="other",
    unit="notes",
    reference="hypergeometric test of faults on each beat of the bar against all others",
)
def last_beat(evidence: Evidence, findings: Sequence[Finding]) -> Iterator[Finding]:
    """Faults gather on the last beat of the bar: the next bar is on the player's mind."""
    lengths = {(b.number, b.pass_): b.length_quarters - b.beat_quarters for b in evidence.expectation.bars}
    for found in recurring(evidence, findings, lambda p: p.item.note.beat >= lengths[p.item.note.bar, p.item.note.pass_] - 1e-6):
        yield as_finding(
            found,
            code="pattern.last_beat",
            category="other",
            text=worded("On the last beat time and again: {places} of {faults} {which}, in {bars}.", **counts_of(found)),
        )
