"""What a go of changes was: which came late, which were wrong, how many a minute."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from itertools import pairwise

from didactor.core.analyse import Analysis
from didactor.core.practising.change import Change, is_late, per_minute
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.verdict import Verdict
from didactor.core.words import worded

#: With more of them not to be told than this, a go says nothing.
MOST_UNKNOWN = 0.4


def could_not_be_judged(analysis: Analysis) -> Verdict:
    problem = analysis.quality.problems[-1] if analysis.quality.problems else None
    return Verdict(outcome=Outcome.UNSURE, says=problem.text if problem else worded("This could not be judged."), code="sound")


def told_of_changes(
    labels: Sequence[str],
    onsets_s: Sequence[float | None],
    right: Sequence[bool | None],
    *,
    wait_s: float,
    beat_s: float,
    what: str,
) -> Verdict:
    """A verdict with the changes in it.

    Args:
        labels: what was to sound, in order; ``onsets_s`` when it began (None: unknown) and ``right`` whether it did (None: not told).
        wait_s: from one to the next at the tempo that was counted off.
        what: “chord” or “note”.
    """
    changes = tuple(
        Change(
            before=labels[k - 1],
            after=labels[k],
            late_s=None if before is None or after is None else after - before - wait_s,
            right=right[k],
        )
        for k, (before, after) in enumerate(pairwise(onsets_s), start=1)
    )
    known = [r for r in right if r is not None]
    if len(known) < (1 - MOST_UNKNOWN) * len(right):
        says = (
            worded("Too few of the chords could be told: this one does not count.")
            if what == "chord"
            else worded("Too few of the notes could be told: this one does not count.")
        )
        return Verdict(outcome=Outcome.UNSURE, says=says, code="doubtful", changes=changes)
    rate = per_minute(onsets_s, right)
    pace = worded("{rate:.0f} changes a minute.", rate=rate) if rate else ""
    wrong = next((k for k, r in enumerate(right) if r is False), None)
    if wrong is not None:
        at = onsets_s[wrong]
        place = worded("{before} to {after}", before=labels[wrong - 1], after=labels[wrong]) if wrong else labels[wrong]
        return Verdict(
            outcome=Outcome.FAULT,
            says=_and_pace(
                worded("{place}: another chord, or none.", place=place)
                if what == "chord"
                else worded("{place}: another note, or none.", place=place),
                pace,
            ),
            code="change.wrong",
            start_s=at,
            end_s=None if at is None else at + 1.0,
            changes=changes,
        )
    slow = _slowest(changes, beat_s)
    if slow is not None:
        before, after, late_s = slow
        at = next((s for k, s in enumerate(onsets_s) if k and labels[k - 1] == before and labels[k] == after and s is not None), None)
        return Verdict(
            outcome=Outcome.FAULT,
            says=_and_pace(worded("{before} to {after} came {late:.1f} s late.", before=before, after=after, late=late_s), pace),
            code="change.late",
            start_s=at,
            end_s=None if at is None else at + 1.0,
            changes=changes,
        )
    return Verdict(outcome=Outcome.CLEAN, says=pace, changes=changes)


def _and_pace(says: str, pace: str) -> str:
    return worded("{says} {pace}", says=says, pace=pace) if pace else says


def _slowest(changes: Sequence[Change], beat_s: float) -> tuple[str, str, float] | None:
    """The direction that came late most of the time: one slip is none."""
    kinds: dict[tuple[str, str], list[float]] = {}
    for change in changes:
        if change.late_s is not None:
            kinds.setdefault((change.before, change.after), []).append(change.late_s)
    medians = [(before, after, statistics.median(late)) for (before, after), late in kinds.items() if len(late) > 1]
    worst = max(medians, key=lambda m: m[2], default=None)
    return worst if worst and is_late(worst[2], beat_s) else None
