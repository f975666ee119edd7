from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence, NoteJudgement
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import limp
from didactor.core.judging.words import place_in_words

#: A note stands out only when it lies this many times the take's own scatter (standard deviation, robust) from the pulse:
#: scatter is a player's, or a slow attack's, and no fault of one note.
SCATTER_FACTOR = 2.5
#: The ear's own doubt about an onset (95 % of its errors are smaller): struck and plucked notes begin at once, others grow.
DOUBT_STRUCK_MS, DOUBT_GROWN_MS = 5.0, 8.0
#: The first and the last note have neighbours on one side only: the pulse is less sure there.
AT_THE_ENDS = 1.6


@check(
    code="rhythm.placement",
    title="Early or late",
    category="rhythm",
    unit="ms",
    reference="onset minus robust local tempo map; floors by stage, above what Friberg & Sundberg 1995 found noticeable",
)
def placement(evidence: Evidence) -> Iterator[Finding]:
    """One note off its place in the pulse by more than the stage allows."""
    rules = evidence.targets.stage_rules.placement
    if rules is None or evidence.inferred:
        return
    hesitated = {h.note_index for h in evidence.hesitations}
    limps = limp(evidence) is not None
    placed = [n.note.onset_quarters for n in evidence.notes if n.early_late_ms is not None]
    ends = (min(placed, default=0.0), max(placed, default=0.0))
    restarted = {r.to_index for r in evidence.restarts}
    for index, item in enumerate(evidence.notes):
        if item.early_late_ms is None or index in hesitated or index in restarted or item.status is not Status.CORRECT:
            continue
        if limps and _is_inside_a_beat(evidence, item):
            continue  # one remark about all pairs says it
        threshold = max(rules.floor_ms, 1000 * rules.beat_share * _beat_s(evidence, item), SCATTER_FACTOR * evidence.scatter_ms)
        if item.note.onset_quarters in ends:
            threshold *= AT_THE_ENDS
        if abs(item.early_late_ms) < threshold + (DOUBT_STRUCK_MS if evidence.instrument.decays else DOUBT_GROWN_MS):
            continue
        yield Finding.at_note(
            item,
            code="rhythm.placement",
            category="rhythm",
            text=f"{place_in_words(evidence.expectation, item.note)}: {evidence.in_words(item.note)} comes "
            f"{abs(item.early_late_ms) / 1000:.2f} s {'early' if item.early_late_ms < 0 else 'late'}.",
            severity=4.0 + min(abs(item.early_late_ms) / 300.0, 1.5),
            size=item.early_late_ms,
            unit="ms",
        )


def _is_inside_a_beat(evidence: Evidence, item: NoteJudgement) -> bool:
    beat = evidence.expectation.bar_at(item.note.onset_quarters).beat_quarters
    return item.note.beat % beat > 1e-6


def _beat_s(evidence: Evidence, item: NoteJudgement) -> float:
    """The metrical beat in seconds at the local tempo."""
    if not item.early_late_quarters or item.early_late_ms is None:
        return 0.0
    per_quarter = item.early_late_ms / 1000.0 / item.early_late_quarters
    return per_quarter * evidence.expectation.bar_at(item.note.onset_quarters).beat_quarters
