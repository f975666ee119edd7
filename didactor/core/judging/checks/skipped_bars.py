from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check


@check(code="flow.skipped", title="Bars left out", category="flow", unit="bars", reference="bars of which no note was aligned")
def skipped_bars(evidence: Evidence) -> Iterator[Finding]:
    """Whole bars between played ones of which nothing was heard."""
    for bar, pass_ in evidence.skipped_bars:
        ids = tuple(n.note.id for n in evidence.notes if (n.note.bar, n.note.pass_) == (bar, pass_))
        yield Finding(
            code="flow.skipped",
            category="flow",
            text=f"Bar {bar} is left out.",
            confidence=0.85,
            severity=8.5,
            bar=bar,
            pass_=pass_,
            beat=0.0,
            note_ids=ids,
            size=1.0,
            unit="bars",
        )
