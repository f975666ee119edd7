"""Strokes that fall on a metronome's click: what is left of the sound there cannot tell one from the other.

A click that was taken out may take a stroke with it, or leave something behind that looks like one. Where a stroke is missing, or
faint, right at a click, it is not judged; and the strokes are not counted then, since the count would be a guess.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.hearing.hearing import Hearing, NoteHeard, Status
from didactor.core.score.expected import Expectation

#: A stroke is due at a click within this time; one that was heard lies on it within that.
DUE_NEAR_S, HEARD_NEAR_S = 0.05, 0.02
#: A stroke heard less surely than this may be what was left of a click.
SURE = 0.85
REASON = "it falls on the metronome's click, which covers it"


def doubt_under_clicks(hearing: Hearing, expectation: Expectation, clicks_s: tuple[float, ...]) -> Hearing:
    """The hearing of strokes with doubts where a click (seconds, as taken out of the sound) covers them."""
    if not clicks_s:
        return hearing
    clicks = np.array(clicks_s)
    due_s = _due(hearing.notes, expectation)
    notes = [_doubted(note, due, clicks) for note, due in zip(hearing.notes, due_s, strict=True)]
    extra = tuple(e for e in hearing.extra if _away(clicks, e.onset_s) > HEARD_NEAR_S)
    unsure = len(extra) < len(hearing.extra) or any(n is not o for n, o in zip(notes, hearing.notes, strict=True))
    return replace(hearing, notes=tuple(notes), extra=extra, count=None if unsure else hearing.count)


def _doubted(note: NoteHeard, due_s: float | None, clicks: FloatArray) -> NoteHeard:
    missing = note.status is Status.MISSED and due_s is not None and _away(clicks, due_s) <= DUE_NEAR_S
    faint = note.status is Status.CORRECT and note.confidence < SURE and _away(clicks, note.onset_s or 0.0) <= HEARD_NEAR_S
    if not missing and not faint:
        return note
    return replace(note, status=Status.UNCERTAIN, confidence=0.4, reason=REASON, onset_s=None, timed=False)


def _away(clicks: FloatArray, time_s: float) -> float:
    return float(np.abs(clicks - time_s).min())


def _due(notes: tuple[NoteHeard, ...], expectation: Expectation) -> list[float | None]:
    """When each note was heard, or is due between its neighbours; None beyond what was heard."""
    known = [i for i, n in enumerate(notes) if n.onset_s is not None]
    if len(known) < 2:
        return [n.onset_s for n in notes]
    quarters = [n.onset_quarters for n in expectation.notes]
    due = np.interp(quarters, [quarters[i] for i in known], [notes[i].onset_s or 0.0 for i in known], left=np.nan, right=np.nan)
    return [None if np.isnan(t) else float(t) for t in due]
