from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import as_finding, counts_of, recurring
from didactor.core.judging.registry import Finding, pattern
from didactor.core.words import _, worded


@pattern(
    code="pattern.direction",
    title=_("Always on the way up (or down)"),
    category="other",
    unit="notes",
    reference="hypergeometric test of faults after rising against falling intervals",
)
def direction(evidence: Evidence, findings: Sequence[Finding]) -> Iterator[Finding]:
    """Faults come nearly always when the line rises, or nearly always when it falls."""
    for sign in (1, -1):
        for found in recurring(evidence, findings, lambda p, sign=sign: p.interval * sign > 0):  # type: ignore[misc]
            yield as_finding(
                found,
                code="pattern.direction",
                category="other",
                text=worded("Nearly always on the way up: {places} of {faults} {which}, in {bars}.", **counts_of(found))
                if sign > 0
                else worded("Nearly always on the way down: {places} of {faults} {which}, in {bars}.", **counts_of(found)),
            )
