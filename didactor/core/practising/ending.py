"""When an attempt is over: nobody presses anything. The clock, the level and, where these say so, the ear itself.

A look of the ear costs some tenths of a second, so it is asked when the last note's due end has passed and again after pauses; an
attempt is complete when its last note was heard, most of the notes fit, and its due end has passed. Silence ends what was broken off.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from didactor.core.analyse import Analysis
from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import NoteJudgement
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.verdict import Verdict
from didactor.core.score.expected import Expectation
from didactor.core.sound.recording import RATE_HZ
from didactor.core.steps import ear_of
from didactor.core.words import worded

#: The first look is so long after the last note's due end, the next ones so far apart.
FIRST_LOOK_S, NEXT_LOOK_S = 0.1, 0.4
#: A pause that asks for a look, at least; and one that ends an attempt that was broken off, in beats and seconds.
PAUSE_S, PAUSE_BEATS = 1.0, 1.5
BROKEN_BEATS, BROKEN_S = 2.2, 1.6
#: Nothing at all was played so long after it was due to begin.
NOTHING_BEATS, NOTHING_S = 4.0, 4.0
#: An attempt is complete with this share of its notes, less half of what was played besides.
COMPLETE_SHARE = 0.55
#: While something still sounds it is complete only with this share; it is still when nothing was heard for so long, in seconds and beats.
PLAIN_SHARE, QUIET_S, QUIET_BEATS, STILL_S = 0.85, 0.5, 0.8, 2.0
#: Of the last quarter of its notes this share sounded in one that reached its end; its last note lasts to within so much of its length.
END_SHARE, TAIL_SHARE, LASTS_S = 0.25, 0.4, 0.15
#: Sounds this far above the quietest of the attempt are playing, dB; quieter than this nothing is.
ABOVE_FLOOR_DB, LOWEST_DB = 14.0, -55.0
#: And so is what comes so near to the loudest, however loud the room is.
LOUD_WITHIN_DB = 12.0
#: The last click of the count-off, and what the room makes of it, is over so many beats before the music begins.
COUNTED_BEATS = 0.45
#: An attempt that goes on so long is ended, seconds.
LONGEST_S = 180.0
_FRAME_S = 0.05


class Now(StrEnum):
    """``going``: wait; ``look``: ask the ear; ``broken``: it was broken off; ``nothing``: nobody played."""

    GOING = "going"
    LOOK = "look"
    BROKEN = "broken"
    NOTHING = "nothing"


@dataclass(frozen=True, slots=True, kw_only=True)
class Due:
    """What is known of an attempt from the count-off: when, in its sound, it is due to begin and to end, and its beat; seconds.

    ``strokes``: it is clapped or struck, so that a sound may be as short as a knock.
    """

    start_s: float
    end_s: float
    beat_s: float
    longest_rest_s: float
    strokes: bool = False

    @classmethod
    def of(cls, expectation: Expectation, start_s: float, qpm: float, strokes: bool = False) -> Due:
        """``start_s``: when the first bar of the stone begins, as the device plays and records it."""
        quarter_s = 60.0 / qpm
        last = max((n.onset_quarters + n.duration_quarters for n in expectation.notes), default=expectation.length_quarters)
        rest, reached = 0.0, 0.0
        for note in expectation.notes:
            # A stroke is over at once, however long it is written.
            lasts = 0.0 if strokes else note.duration_quarters
            rest, reached = max(rest, note.onset_quarters - reached), max(reached, note.onset_quarters + lasts)
        beat_s = quarter_s * (expectation.bars[0].beat_quarters if expectation.bars else 1.0)
        end_s, rest_s = start_s + last * quarter_s, rest * quarter_s
        return cls(start_s=start_s, end_s=end_s, beat_s=beat_s, longest_rest_s=rest_s, strokes=strokes)


@dataclass(frozen=True, slots=True, kw_only=True)
class Look:
    """When the ear was asked last, in seconds of the attempt's sound, and whether it found the attempt complete."""

    at_s: float
    complete: bool


def now(samples: npt.NDArray[np.float32], due: Due, last: Look | None = None) -> Now:
    """What to do with what has come of an attempt so far.

    Args:
        samples: mono at ``RATE_HZ``, from where ``due`` counts.
        last: the last look of the ear, if there was one.
    """
    heard_s = len(samples) / RATE_HZ
    first_s, sounding_s = sounding(samples, due)
    if first_s is None:
        return Now.NOTHING if heard_s >= due.start_s + max(NOTHING_S, NOTHING_BEATS * due.beat_s) else Now.GOING
    if heard_s >= LONGEST_S:
        return Now.LOOK
    quiet_s = heard_s - (sounding_s or heard_s)
    pause_s = max(PAUSE_S, PAUSE_BEATS * due.beat_s + due.longest_rest_s)
    broken_s = max(BROKEN_S, BROKEN_BEATS * due.beat_s + due.longest_rest_s)
    may_look = last is None or heard_s >= last.at_s + NEXT_LOOK_S
    if heard_s >= due.end_s + FIRST_LOOK_S and may_look and (last is None or last.at_s < due.end_s or quiet_s < broken_s):
        return Now.LOOK
    if quiet_s >= broken_s and last is not None and last.at_s >= (sounding_s or 0.0) and not last.complete:
        return Now.BROKEN
    return Now.LOOK if quiet_s >= pause_s and may_look and (last is None or last.at_s < (sounding_s or 0.0)) else Now.GOING


def loudness(piece: npt.NDArray[np.int16], rate_hz: int) -> float | None:
    """How loud the loudest moment of the last second of a piece is, dB below full scale; None where it is too short to say.

    Args:
        piece: the samples that came last, 16 bits; of a longer one only the end is looked at.
    """
    hop = int(_FRAME_S * rate_hz)
    tail = piece[-int(PAUSE_S * rate_hz) :]
    frames = tail[: len(tail) // hop * hop].astype(np.float32).reshape(-1, hop) / 32768.0
    return float(10 * np.log10(max(1e-12, float(np.square(frames).mean(axis=1).max())))) if len(frames) else None


def surely_sounds(level_db: float, loudest_db: float) -> bool:
    """Whether a piece that is so loud is louder than any room: ``sounding`` would call it playing, whatever else it has heard.

    A thousandth of the work, so that it can be asked of every piece; before the last note is due nothing can have ended, then.
    ``loudest_db``: the loudest of all pieces before.
    """
    return level_db > max(LOWEST_DB, max(level_db, loudest_db) - LOUD_WITHIN_DB)


def sounding(samples: npt.NDArray[np.float32], due: Due) -> tuple[float | None, float | None]:
    """When playing begins and ends, after the count-off; None where nothing is louder than the room."""
    hop = int(_FRAME_S * RATE_HZ)
    count = len(samples) // hop
    if count < 4:
        return None, None
    power = np.square(samples[: count * hop].astype(np.float64).reshape(count, hop)).mean(axis=1)
    level = 10 * np.log10(np.maximum(power, 1e-12))
    floor = float(np.percentile(level, 10))
    loud = np.flatnonzero(level > max(LOWEST_DB, min(floor + ABOVE_FLOOR_DB, float(level.max()) - LOUD_WITHIN_DB)))
    loud = loud[loud * _FRAME_S >= due.start_s - COUNTED_BEATS * due.beat_s]
    if not due.strokes:
        # One frame alone is a knock.
        loud = np.array([k for k in loud if k - 1 in loud or k + 1 in loud])
    if len(loud) == 0:
        return None, None
    return float(loud[0]) * _FRAME_S, float(loud[-1] + 1) * _FRAME_S


def is_complete(analysis: Analysis, *, goes_on: bool = False, quarter_s: float = 0.0) -> bool:
    """Whether the attempt reached its end: the last note was heard, with some of those just before it, and most of the others.

    Args:
        goes_on: something still sounds. Who began again may be in the middle of it, so nearly all must have been right then, and the last
            note must have lasted as long as it is written.
        quarter_s: seconds a quarter that were counted off.
    """
    evidence = analysis.evidence
    if evidence is None or not evidence.notes:
        return False
    played = [n for n in evidence.notes if not n.note.grace]
    by_note = ear_of(evidence.targets.step).note_by_note
    right = sum(n.status is Status.CORRECT if by_note else n.onset_s is not None for n in played)
    last = [n for n in played if n.note.onset_quarters >= played[-1].note.onset_quarters - 1e-6]
    ended = [n for n in last if n.onset_s is not None and n.status is not Status.MISSED]
    tail = played[-max(2, round(len(played) * END_SHARE)) :]
    # One sound that fits the last note is not yet the end.
    reached = bool(ended) and sum(n.status is not Status.MISSED for n in tail) >= TAIL_SHARE * len(tail)
    share = (right - 0.5 * len(evidence.extra)) / max(1, len(played))
    if goes_on and (evidence.restarts or _still_lasts(analysis, ended, quarter_s)):
        return False
    return reached and share >= (PLAIN_SHARE if goes_on else COMPLETE_SHARE)


def _still_lasts(analysis: Analysis, last: Sequence[NoteJudgement], quarter_s: float) -> bool:
    """Whether the last note has not sounded as long as it is written."""
    until_s = max(((n.onset_s or 0.0) + n.note.duration_quarters * quarter_s for n in last), default=0.0)
    return analysis.duration_s < until_s - LASTS_S


def goes_on(samples: npt.NDArray[np.float32], due: Due) -> bool:
    """Whether something still sounds. After as long again as the attempt should have lasted it does not matter any more."""
    heard_s = len(samples) / RATE_HZ
    if heard_s > due.end_s + (due.end_s - due.start_s) + STILL_S:
        return False
    _, until_s = sounding(samples, due)
    return until_s is not None and heard_s - until_s < max(QUIET_S, QUIET_BEATS * due.beat_s)


def broken_off(found: Verdict) -> Verdict:
    """What is said of an attempt that stopped before its end: what was wrong before, or where it stopped. What was not played any more
    is nothing that went wrong, but its first note is where it did.
    """
    if found.outcome is Outcome.FAULT and found.code != "notes.missed":
        return found
    return replace(
        found,
        outcome=Outcome.FAULT,
        says=worded("Broken off in bar {bar}.", bar=found.bar) if found.bar else worded("Broken off before its end."),
        code="flow.broken_off",
        at_fault=found.at_fault[:1],
        heard=found.heard[:1],
        start_s=None,
        end_s=None,
    )
