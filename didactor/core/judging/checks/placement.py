from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import replace

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence, NoteJudgement
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import limp
from didactor.core.judging.words import place_in_words
from didactor.core.words import _, worded

#: A note stands out only when it lies this many times the take's own scatter (standard deviation, robust) from the pulse:
#: scatter is a player's, or a slow attack's, and no fault of one note.
SCATTER_FACTOR = 2.5
#: The ear's own doubt about an onset (95 % of its errors are smaller): struck and plucked notes begin at once, others grow.
DOUBT_STRUCK_MS, DOUBT_GROWN_MS = 5.0, 8.0
#: A longer beat is divided by whoever feels it, and its share counts as this one's (the beats that people keep time by best last 0.5 to
#: 0.7 s: Parncutt 1994).
LONGEST_BEAT_S = 0.7
#: The first and the last note have neighbours on one side only, and what lies this many quarters from the nearest on a side as good as
#: none there: the pulse is less sure, and stands for nothing within so many standard deviations of when it says they were due.
AT_THE_ENDS, ALONE_QUARTERS, UNSURE_FACTOR = 1.6, 2.5, 2.5


@check(
    code="rhythm.placement",
    title=_("Early or late"),
    category="rhythm",
    unit="ms",
    reference="onset minus robust local tempo map; floors by stage, above what Friberg & Sundberg 1995 found noticeable",
)
def placement(evidence: Evidence) -> Iterator[Finding]:
    """One note off its place in the pulse by more than the stage allows."""
    rules = evidence.targets.stage_rules.placement
    if rules is None or evidence.inferred:
        return
    limps = limp(evidence) is not None
    # What comes after a pause or a jump has its own remark, all that begins there with it.
    excused = {evidence.notes[h.note_index].note.onset_quarters for h in evidence.hesitations}
    excused |= {evidence.notes[r.to_index].note.onset_quarters for r in evidence.restarts}
    alone = _alone(evidence)
    moments: dict[float, list[NoteJudgement]] = {}
    for item in evidence.notes:
        if item.early_late_ms is None or item.status is not Status.CORRECT or item.note.onset_quarters in excused:
            continue
        if limps and _is_inside_a_beat(evidence, item):
            continue  # one remark about all pairs says it
        threshold = max(
            rules.floor_ms, 1000 * rules.beat_share * min(_beat_s(evidence, item), LONGEST_BEAT_S), SCATTER_FACTOR * evidence.scatter_ms
        )
        if item.note.onset_quarters in alone:
            threshold = max(AT_THE_ENDS * threshold, UNSURE_FACTOR * item.unsure_ms)
        if abs(item.early_late_ms) >= threshold + (DOUBT_STRUCK_MS if evidence.instrument.decays else DOUBT_GROWN_MS):
            moments.setdefault(item.note.onset_quarters, []).append(item)
    for off in moments.values():
        for early in (True, False):
            together = [item for item in off if ((item.early_late_ms or 0.0) < 0) is early]
            if together:
                yield _of_moment(evidence, together)


def _alone(evidence: Evidence) -> set[float]:
    """Moments without a neighbour, or only with a far one, on a side."""
    placed = sorted({n.note.onset_quarters for n in evidence.notes if n.early_late_ms is not None})
    gaps = [float("inf"), *(b - a for a, b in itertools.pairwise(placed)), float("inf")]
    return {q for q, gap, following in zip(placed, gaps, gaps[1:], strict=False) if max(gap, following) >= ALONE_QUARTERS}


def _of_moment(evidence: Evidence, together: list[NoteJudgement]) -> Finding:
    """One remark for all that comes early, or late, in one moment."""
    worst = max(together, key=lambda item: abs(item.early_late_ms or 0.0))
    size = worst.early_late_ms or 0.0
    what = evidence.in_words(worst.note)
    if len(together) > 1:
        staves = {item.note.staff for item in together}
        what = worded("what both hands play here") if len(staves) > 1 else worded("the chord")
    return replace(
        Finding.at_note(
            worst,
            code="rhythm.placement",
            category="rhythm",
            text=(
                worded(
                    "{place}: {what} comes {size:.2f} s early.",
                    place=place_in_words(evidence.expectation, worst.note),
                    what=what,
                    size=abs(size) / 1000,
                )
                if size < 0
                else worded(
                    "{place}: {what} comes {size:.2f} s late.",
                    place=place_in_words(evidence.expectation, worst.note),
                    what=what,
                    size=abs(size) / 1000,
                )
            ),
            severity=4.0 + min(abs(size) / 300.0, 1.5),
            size=size,
            unit="ms",
        ),
        note_ids=tuple(item.note.id for item in sorted(together, key=lambda item: item is not worst)),
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
