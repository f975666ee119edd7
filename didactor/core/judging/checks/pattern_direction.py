from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import WORDS, as_finding, bars_in_words, recurring
from didactor.core.judging.registry import Finding, pattern


@pattern(
    code="pattern.direction",
    title="Always on the way up (or down)",
    category="other",
    unit="notes",
    reference="hypergeometric test of faults after rising against falling intervals",
)
def direction(evidence: Evidence, findings: Sequence[Finding]) -> Iterator[Finding]:
    """Faults come nearly always when the line rises, or nearly always when it falls."""
    for words, sign in (("up", 1), ("down", -1)):
        for found in recurring(evidence, findings, lambda p, sign=sign: p.interval * sign > 0):  # type: ignore[misc]
            yield as_finding(
                found,
                code="pattern.direction",
                category="other",
                text=f"Nearly always on the way {words}: {len(found.places)} of {found.faults} {WORDS[found.code]}, "
                f"in {bars_in_words(found)}.",
            )
