from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import Run, runs_left_out


@check(code="flow.skipped", title="Bars left out", category="flow", unit="bars", reference="bars of which no note was aligned")
def skipped_bars(evidence: Evidence) -> Iterator[Finding]:
    """Whole bars between played ones of which nothing was heard; neighbours make one remark."""
    for run in runs_left_out(evidence):
        if run.is_repeat:
            continue
        one = len(run.bars) == 1
        where = f"Bar {run.bars[0][0]} is" if one else f"Bars {run.bars[0][0]} to {run.bars[-1][0]} are"
        yield _finding(evidence, run, "flow.skipped", f"{where} left out.")


@check(
    code="flow.repeat_left_out",
    title="Repeat not taken",
    category="flow",
    unit="bars",
    reference="a whole pass of which no note was aligned",
)
def repeat_left_out(evidence: Evidence) -> Iterator[Finding]:
    """A repeated stretch is played once only."""
    for run in runs_left_out(evidence):
        if run.is_repeat:
            text = f"The repeat of bars {run.bars[0][0]} to {run.bars[-1][0]} is not taken."
            yield _finding(evidence, run, "flow.repeat_left_out", text)


def _finding(evidence: Evidence, run: Run, code: str, text: str) -> Finding:
    bars = set(run.bars)
    return Finding(
        code=code,
        category="flow",
        text=text,
        confidence=0.85,
        severity=8.5,
        bar=run.bars[0][0],
        pass_=run.bars[0][1],
        beat=0.0,
        note_ids=tuple(n.note.id for n in evidence.notes if (n.note.bar, n.note.pass_) in bars),
        size=float(len(run.bars)),
        unit="bars",
    )
