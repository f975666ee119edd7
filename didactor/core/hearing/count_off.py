"""A count-off that nobody told of: taps, sticks or a voice that counts before the first note of a sent recording.

It is found only where exactly as many pulses as are counted stand evenly before the first note, with nothing like them earlier: a
metronome that ran for a while tells no beat to enter on, and what is not sure says nothing of the entry.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from didactor.core.hearing.strokes import Stroke, find_strokes
from didactor.core.sound.recording import RATE_HZ

#: A count may be so much slower or quicker than the tempo asked for, and its pulses so uneven (share of the beat).
SLOWEST, QUICKEST, UNEVEN = 1.3, 0.77, 0.12
#: The first note comes within so many beats of the last pulse.
SOONEST_BEATS, LATEST_BEATS = 0.3, 3.5
#: What is at least this strong against the pulses is one of them, or speaks against them.
AS_STRONG = 0.5
FEWEST, LEAST_BEFORE_S = 2, 0.5


def find_count_off(
    samples: npt.NDArray[np.float32], first_note_s: float, beat_s: float, count: int, pickup_beats: float = 0.0
) -> tuple[float, ...]:
    """Times of the ``count`` pulses that lead to the first full bar, seconds; empty where there are not just so many before the first note.

    Args:
        samples: mono at ``RATE_HZ``.
        first_note_s: when the first note was heard.
        beat_s: the metrical beat at the tempo asked for.
        pickup_beats: length of an anacrusis, into which the last pulses fall; they are carried on from those before it.
    """
    before = sum(k > pickup_beats + SOONEST_BEATS for k in range(1, count + 1))
    if before < FEWEST or first_note_s < LEAST_BEFORE_S:
        return ()
    # What sounds with the first note is no pulse.
    until_s = first_note_s - 0.5 * SOONEST_BEATS * beat_s
    strokes = [s for s in find_strokes(samples[: int(first_note_s * RATE_HZ)]) if s.time_s < until_s]
    for last in reversed(range(len(strokes))):
        found = _even(strokes, last, beat_s, before)
        if found is None or not SOONEST_BEATS * beat_s <= first_note_s - found[-1].time_s <= LATEST_BEATS * beat_s:
            continue
        if _stands_alone(strokes, found, count - before):
            first_s, last_s = found[0].time_s, found[-1].time_s
            period = (last_s - first_s) / (before - 1)
            return (*(s.time_s for s in found), *(last_s + period * (k + 1) for k in range(count - before)))
    return ()


def _even(strokes: list[Stroke], last: int, beat_s: float, count: int) -> list[Stroke] | None:
    """``count`` strokes, evenly apart, that end with one; None where there are none."""
    for before in reversed(range(last)):
        period = strokes[last].time_s - strokes[before].time_s
        if not QUICKEST * beat_s <= period <= SLOWEST * beat_s:
            continue
        found = [strokes[last], strokes[before]]
        while len(found) < count:
            due = found[-1].time_s - period
            near = min(strokes, key=lambda s: abs(s.time_s - due))
            if abs(near.time_s - due) > UNEVEN * period or near is found[-1]:
                break
            found.append(near)
        if len(found) == count:
            return found[::-1]
    return None


def _stands_alone(strokes: list[Stroke], found: list[Stroke], further: int) -> bool:
    """Whether nothing as strong goes before, or comes after, that could be counted as well; ``further`` pulses may follow on."""
    usual = AS_STRONG * float(np.median([s.strength for s in found]))
    period = (found[-1].time_s - found[0].time_s) / (len(found) - 1)
    due = [found[-1].time_s + k * period for k in range(1, further + 1)]

    def speaks_against(stroke: Stroke) -> bool:
        if stroke.time_s > found[-1].time_s + (1 - UNEVEN) * period:
            return all(abs(stroke.time_s - t) > UNEVEN * period for t in due)
        return stroke.time_s < found[0].time_s

    return not any(s.strength >= usual and speaks_against(s) for s in strokes)
