from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check


@check(code="rhythm.count", title="Number of strokes", category="rhythm", unit="strokes", reference="strokes heard against strokes written")
def stroke_count(evidence: Evidence) -> Iterator[Finding]:
    """As many strokes as written, then stop. Restarts and bars left out explain another number by themselves."""
    count = evidence.count
    if count is None or count.played == count.written or evidence.restarts or evidence.skipped_bars:
        return
    more = count.played - count.written
    inside = len(evidence.extra) - sum(n.onset_s is None for n in evidence.notes)
    if more == inside:
        return  # each of them has a remark at its own place
    number = f"{abs(more)} stroke{'s' if abs(more) != 1 else ''} too {'many' if more > 0 else 'few'}"
    yield Finding(
        code="rhythm.count",
        category="rhythm",
        text=f"{number}: {count.written} are written, {count.played} were played.",
        confidence=0.8,
        severity=6.5,
        size=float(more),
        unit="strokes",
    )
