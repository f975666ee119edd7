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
from didactor.core.words import _

#: A stroke is due at a click within this time; one that was heard lies on it within that.
DUE_NEAR_S, HEARD_NEAR_S = 0.05, 0.02
#: A stroke heard less surely than this may be what was left of a click.
SURE = 0.85
#: Strokes too many on a grid: so many of them, this share of all and this one of those about it; how near is on it and about it, and no
#: more scatter than the ear's own. Its period lies this near to the beat, and is sought in such steps.
FEWEST_CLICKS, GRID_SHARE, ABOUT_SHARE, GRID_S, ABOUT_S, CLOCK_S = 4, 0.6, 0.85, 0.012, 0.045, 0.005
PERIOD_WITHIN, PERIOD_STEP = 0.06, 0.0005
REASON = _("it falls on the metronome's click, which covers it")


def doubt_under_clicks(hearing: Hearing, expectation: Expectation, clicks_s: tuple[float, ...]) -> Hearing:
    """The hearing of strokes with doubts where a click (seconds, as taken out of the sound) covers them."""
    if not clicks_s:
        return hearing
    clicks = np.array(clicks_s)
    due_s = _due(hearing.notes, expectation)
    notes = [_doubted(note, due, clicks) for note, due in zip(hearing.notes, due_s, strict=True)]
    extra = tuple(e for e in hearing.extra if _away(clicks, e.onset_s) > HEARD_NEAR_S)
    unsure = len(extra) < len(hearing.extra) or any(n is not o for n, o in zip(notes, hearing.notes, strict=True))
    # Clicks go on after the last stroke, too: more strokes than can be named are none.
    count = None if unsure or (hearing.count and hearing.count.played > hearing.count.written + len(extra)) else hearing.count
    return replace(hearing, notes=tuple(notes), extra=extra, count=count)


def all_clicks(hearing: Hearing, taken_out_s: tuple[float, ...], beat_s: float) -> tuple[float, ...]:
    """A metronome's clicks over the whole take, seconds: those that were taken out of the sound, and those that were not.

    A click in a reverberant room, or under a stroke, resembles the others too little to be taken out. But a metronome keeps time to the
    millisecond, as nobody does: what was taken out tells the rest; and strokes too many that lie on one grid about as long as the beat,
    with hardly any scatter, are its clicks.
    """
    extra = np.array([e.onset_s for e in hearing.extra])
    heard = np.concatenate((extra, [n.onset_s for n in hearing.notes if n.onset_s is not None]))
    found = list(taken_out_s)
    for grid in filter(None, (_grid(np.array(taken_out_s), beat_s), _grid(extra, beat_s))):
        first, period = grid
        # A player is early or late for the first click and for the last.
        turns = np.arange(np.ceil((heard.min() - first) / period - 0.5), (heard.max() - first) / period + 0.5)
        found += (first + period * turns).tolist()
    return tuple(found)


def _grid(times: FloatArray, beat_s: float) -> tuple[float, float] | None:
    """First time and period of the grid, about as long as a beat, on which most of some times lie as a clock's do; None without one."""
    if len(times) < FEWEST_CLICKS:
        return None
    periods = beat_s * (1 + np.arange(-PERIOD_WITHIN, PERIOD_WITHIN, PERIOD_STEP))
    # Away from the grid through each of them, for each period; shape (periods, through, times).
    turns = (times[None, None, :] - times[None, :, None]) / periods[:, None, None]
    away = np.abs(turns - np.round(turns)) * periods[:, None, None]
    near = away.clip(max=GRID_S).sum(axis=2)
    row, through = (int(v) for v in np.unravel_index(int(np.argmin(near)), near.shape))
    on = away[row, through] < GRID_S
    about = away[row, through] < ABOUT_S
    if on.sum() < max(FEWEST_CLICKS, GRID_SHARE * len(times), ABOUT_SHARE * about.sum()):
        return None
    numbers = np.round(turns[row, through][on])
    period, first = np.polyfit(numbers, times[on], 1)
    if float(np.std(times[on] - first - period * numbers)) > CLOCK_S:
        return None
    return float(first), float(period)


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
