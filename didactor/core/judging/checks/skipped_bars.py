from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import Run, runs_left_out
from didactor.core.judging.words import bar_in_words
from didactor.core.words import _, worded


@check(code="flow.skipped", title=_("Bars left out"), category="flow", unit="bars", reference="bars of which no note was aligned")
def skipped_bars(evidence: Evidence) -> Iterator[Finding]:
    """Whole bars between played ones of which nothing was heard; neighbours make one remark."""
    for run in runs_left_out(evidence):
        if run.is_repeat:
            continue
        first, last = (bar_in_words(evidence.expectation, *bar) for bar in (run.bars[0], run.bars[-1]))
        if run.bars[0][1] == run.bars[-1][1] and len(run.bars) > 1:
            first = run.bars[0][0]
        text = (
            worded("Bar {first} is left out.", first=first)
            if len(run.bars) == 1
            else worded("Bars {first} to {last} are left out.", first=first, last=last)
        )
        yield _finding(evidence, run, "flow.skipped", text)


@check(
    code="flow.repeat_left_out",
    title=_("Repeat not taken"),
    category="flow",
    unit="bars",
    reference="a whole pass of which no note was aligned",
)
def repeat_left_out(evidence: Evidence) -> Iterator[Finding]:
    """A repeated stretch is played once only."""
    for run in runs_left_out(evidence):
        if run.is_repeat:
            order = list(dict.fromkeys(bar.number for bar in evidence.expectation.bars))
            numbers = sorted({number for number, _ in run.bars}, key=order.index)
            text = worded("The repeat of bars {first} to {last} is not taken.", first=numbers[0], last=numbers[-1])
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
