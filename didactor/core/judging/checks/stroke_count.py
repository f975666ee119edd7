from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, counted


@check(
    code="rhythm.count", title=_("Number of strokes"), category="rhythm", unit="strokes", reference="strokes heard against strokes written"
)
def stroke_count(evidence: Evidence) -> Iterator[Finding]:
    """As many strokes as written, then stop. Restarts and bars left out explain another number by themselves."""
    count = evidence.count
    if count is None or count.played == count.written or evidence.restarts or evidence.skipped_bars:
        return
    more = count.played - count.written
    inside = len(evidence.extra) - sum(n.onset_s is None for n in evidence.notes)
    if more == inside:
        return  # each of them has a remark at its own place
    both = {"written": count.written, "played": count.played}
    text = (
        counted(
            "{count} stroke too many: {written} are written, {played} were played.",
            "{count} strokes too many: {written} are written, {played} were played.",
            more,
            **both,
        )
        if more > 0
        else counted(
            "{count} stroke too few: {written} are written, {played} were played.",
            "{count} strokes too few: {written} are written, {played} were played.",
            -more,
            **both,
        )
    )
    yield Finding(
        code="rhythm.count",
        category="rhythm",
        text=text,
        confidence=0.8,
        severity=6.5,
        size=float(more),
        unit="strokes",
    )
