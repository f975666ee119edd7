"""The ear for strokes without pitch: claps, taps, percussion on one line, and the rhythm of any melody clapped.

A stroke is a sudden rise of the whole spectrum that its surroundings do not have. Any stroke may stand for any written one: the
alignment decides by the intervals alone.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d, median_filter

from didactor.core.arrays import FloatArray
from didactor.core.hearing.alignment import Alignment, Match, Material, align
from didactor.core.hearing.features import FLUX_HOP_S, level_of, onset_strength, short_time
from didactor.core.hearing.groups import Moment, moments_of
from didactor.core.hearing.hearing import Count, ExtraNote, Hearing, Jump, NoteHeard, Status
from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.words import worded

#: A stroke stands this many times over its surroundings, and reaches this share of the take's usual stroke.
OVER_SURROUNDINGS, SHARE_OF_USUAL = 2.0, 0.22
#: Strokes below this share of the usual one may be a room's answer: they count only where one is written.
FAINT_SHARE = 0.4
CLOSE_S = 0.07
#: Level that must be reached after the onset over before it, dB.
RISE_DB = 4.0
MISSED_COST, EXTRA_COST, FAINT_EXTRA_COST = 1.0, 0.9, 0.1
#: Intervals are all there is to go by.
INTERVAL_SHARE = 1.4
#: And rhythms repeat themselves: a jump is believed only against many strokes that do not fit.
JUMP_COST = 5.0
ENOUGH_STROKES = 3
#: How far from its place a stroke may come and still be meant as that stroke.
DISPLACED_S = 0.3


@dataclass(frozen=True, slots=True, kw_only=True)
class Stroke:
    """``strength`` 1 is the take's usual stroke."""

    time_s: float
    strength: float


def find_strokes(samples: npt.NDArray[np.float32]) -> list[Stroke]:
    """All strokes of mono samples at ``RATE_HZ``, in order of time."""
    flux, level = onset_strength(short_time(samples)), level_of(samples)
    if len(flux) < 30:
        return []
    local = maximum_filter1d(flux, 9)
    surroundings = median_filter(flux, 61)
    peaks = np.flatnonzero((flux == local) & (flux > OVER_SURROUNDINGS * surroundings + 0.3))
    if len(peaks) == 0:
        return []
    # The usual stroke: of the strongest third, the median. Between strokes there are many faint peaks.
    usual = float(np.median(np.sort(flux[peaks])[-max(3, len(peaks) // 3) :]))
    found: list[Stroke] = []
    for peak in peaks.tolist():
        strength = float(flux[peak]) / max(usual, 1e-6)
        before = float(np.median(level[max(0, peak - 14) : max(1, peak - 3)]))
        after = float(level[peak : peak + 8].max())
        if strength < SHARE_OF_USUAL or after - before < RISE_DB:
            continue
        time_s = peak * FLUX_HOP_S
        if found and time_s - found[-1].time_s < CLOSE_S:
            # Hands do not meet all at once: the first contact is the stroke, unless it was only a rustle.
            if strength > 2.0 * found[-1].strength:
                found[-1] = Stroke(time_s=time_s, strength=strength)
            continue
        found.append(Stroke(time_s=time_s, strength=strength))
    return found


def hear(samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument) -> Hearing | None:
    """Hear strokes. Returns None where there are hardly any.

    Args:
        samples: mono at ``RATE_HZ``.
        seconds_per_quarter: the target tempo, a first guess.
    """
    strokes = find_strokes(samples)
    if len(strokes) < min(ENOUGH_STROKES, len(expectation.notes)):
        return None
    moments = moments_of(expectation)
    alignment = align(stroke_material(strokes, moments), seconds_per_quarter)
    return replace(hearing_of(strokes, moments, alignment, expectation), of_strokes=True)


def stroke_material(strokes: list[Stroke], moments: list[Moment], pair: FloatArray | None = None) -> Material:
    """Costs of strokes against moments; ``pair`` where more is known than that there was a stroke."""
    strength = np.array([s.strength for s in strokes])
    return Material(
        times=np.array([s.time_s for s in strokes]),
        extra=np.clip(1.2 * (strength - 0.25), FAINT_EXTRA_COST, EXTRA_COST),
        soft=strength < FAINT_SHARE,
        quarters=np.array([m.quarters for m in moments]),
        missed=np.full(len(moments), MISSED_COST),
        untimed=np.zeros(len(moments), dtype=bool),
        bar_start=np.array([m.bar_start for m in moments]),
        pair=np.where(strength < FAINT_SHARE, 0.2, 0.0)[:, None] + (np.zeros((1, len(moments))) if pair is None else pair),
        interval_weight=INTERVAL_SHARE,
        jump_cost=JUMP_COST,
    )


def _with_displaced(alignment: Alignment, strokes: list[Stroke], moments: list[Moment]) -> Alignment:
    """A stroke too many beside a missing one, not half an interval away, is that one, early or late."""
    matches = list(alignment.matches)
    result = matches[:1]
    for before, after in itertools.pairwise(matches):
        between = [e for e in range(before.event + 1, after.event) if strokes[e].strength >= FAINT_SHARE]
        left_out = list(range(before.note + 1, after.note))
        if not after.jump and len(between) == 1 and len(left_out) == 1:
            span = moments[after.note].quarters - moments[before.note].quarters
            share = (moments[left_out[0]].quarters - moments[before.note].quarters) / max(span, 1e-6)
            first, last = strokes[before.event].time_s, strokes[after.event].time_s
            away = abs(strokes[between[0]].time_s - first - share * (last - first))
            if away < min(DISPLACED_S, 0.5 * (last - first)):
                result.append(Match(event=between[0], note=left_out[0]))
        result.append(after)
    return replace(alignment, matches=tuple(result))


def hearing_of(
    strokes: list[Stroke], moments: list[Moment], alignment: Alignment, expectation: Expectation, clear_from: float = FAINT_SHARE
) -> Hearing:
    """Statuses, extras and the count from an alignment of strokes; a stroke too many must be as strong as ``clear_from``."""
    alignment = _with_displaced(alignment, strokes, moments)
    notes = [NoteHeard(status=Status.MISSED, confidence=0.9)] * len(expectation.notes)
    for index, note in enumerate(expectation.notes):
        if note.grace:
            notes[index] = NoteHeard(status=Status.UNCERTAIN, confidence=0.4, reason=worded("grace notes are not clapped"))
    stretch = 0
    for match in alignment.matches:
        stretch += match.jump
        stroke = strokes[match.event]
        for index in moments[match.note].notes:
            notes[index] = NoteHeard(
                status=Status.CORRECT,
                confidence=float(np.clip(0.6 + 0.5 * stroke.strength, 0.6, 0.99)),
                onset_s=stroke.time_s,
                stretch=stretch,
                timed=True,
            )
    taken = {m.event for m in alignment.matches}
    extra = []
    for index, stroke in enumerate(strokes):
        if not taken or index in taken or not min(taken) < index < max(taken) or stroke.strength < clear_from:
            continue
        before = max((m for m in alignment.matches if m.event < index), key=lambda m: m.event)
        elapsed = (stroke.time_s - strokes[before.event].time_s) / max(alignment.seconds_per_quarter, 1e-3)
        position = min(moments[before.note].quarters + elapsed, expectation.length_quarters - 1e-3)
        bar = expectation.bar_at(position)
        extra.append(ExtraNote(onset_s=stroke.time_s, midi=None, bar=bar.number, pass_=bar.pass_, beat=position - bar.start_quarters))
    matched = len({m.note for m in alignment.matches})
    clear = [i for i, s in enumerate(strokes) if s.strength >= clear_from or i in taken]
    return Hearing(
        notes=tuple(notes),
        extra=tuple(extra),
        jumps=tuple(
            Jump(time_s=strokes[b.event].time_s, from_index=moments[a.note].notes[0], to_index=moments[b.note].notes[0])
            for a, b in itertools.pairwise(alignment.matches)
            if b.jump
        ),
        seconds_per_quarter=alignment.seconds_per_quarter,
        share_of_notes=matched / max(1, len(moments)),
        share_of_sounds=matched / max(1, len(clear)),
        count=Count(written=len(moments), played=len([i for i in clear if i >= min(taken, default=0)])),
    )
