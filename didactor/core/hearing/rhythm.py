"""The ear for a passage without notation: from onsets alone, the pulse and the rhythm that were played.

Each onset follows another by some simple number of beats, and the beat changes slowly: dynamic programming over onsets and beat
periods finds the cheapest such reading (the idea of quantisation by a hidden tempo; Raphael 2002). What results is a rhythm
with times, judged for tempo and evenness like a written one. Which notes were meant is not known and not judged.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d, median_filter

from didactor.core.arrays import FloatArray
from didactor.core.hearing.events import find_events, find_tuning
from didactor.core.hearing.features import FLUX_HOP_S, listen, onset_strength, short_time
from didactor.core.hearing.hearing import Hearing, NoteHeard, Status, Tuning
from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation, ExpectedNote, PlayedBar
from didactor.core.units import A4_HZ

#: An onset stands out from what surrounds it by this factor, has this share of the usual strength, and so far from the next (two strokes of
#: a hand are hardly nearer than 80 ms). Chosen on the fit set.
OVER_SURROUNDINGS, SHARE_OF_USUAL, CLOSE_S = 1.7, 0.2, 0.08
#: Beat periods tried, as factors of the target's, and what lies between them.
SLOWEST, FASTEST, STEP = 1.75, 0.57, 1.025
#: Written lengths in beats that one onset may follow another by, and what each costs besides its error.
SIMPLE = {0.5: 0.05, 1.0: 0.0, 1.5: 0.1, 2.0: 0.03, 3.0: 0.06, 4.0: 0.06, 2.5: 0.3, 3.5: 0.3, 0.25: 0.25, 0.75: 0.3}
THREES = {1 / 3: 0.05, 2 / 3: 0.05, 1.0: 0.0, 4 / 3: 0.15, 5 / 3: 0.15, 2.0: 0.03, 3.0: 0.08, 4.0: 0.08, 1 / 6: 0.3, 0.5: 0.3}
#: Error in beats that costs one unit, per beat of length and at least.
ERROR_SHARE, ERROR_LEAST = 0.05, 0.09
CHANGE_COST, AWAY_COST, REACH = 0.6, 0.3, 4
FARTHEST = 40
#: A pause is longer than any note of a line; whether a shorter wait is written cannot be known.
PAUSE_COST, PAUSE_FROM_BEATS = 4.0, 4.3
PASSED_COST = 1.2
#: Shares of the beat that its first half may take throughout, and how much cheaper such a reading must be than an even one.
LIMPS, LIMP_GAIN = (0.58, 0.62, 0.66), 3.0
ON_BEAT = 0.1
#: Before the first and after the last onset that counts, others cost this share (a count-off, a chair).
EDGE_SHARE = 0.8
FEWEST_ONSETS = 6
#: A sound that goes on with the same pitch may be a new note, or a bow's change: to pass it over costs next to nothing, to count on
#: it costs something.
SOFT_STRENGTH, FAINT_COST = 0.05, 0.4


@dataclass(frozen=True, slots=True, kw_only=True)
class Onset:
    time_s: float
    strength: float


def hear(samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument) -> Hearing | None:
    """Hear a rhythm. Returns None with hardly any onsets.

    Args:
        samples: mono at ``RATE_HZ``.
        expectation: its bars give the metre; its notes, if any, are not looked at.
        seconds_per_quarter: the target tempo; the reading nearest to it wins.
    """
    tuning = None
    if instrument.pitched:
        features = listen(samples, instrument)
        tuning_cents, concentration = find_tuning(features)
        tuning = Tuning(a4_hz=A4_HZ * 2 ** (tuning_cents / 1200), offset_cents=tuning_cents, concentration=concentration)
        events = find_events(features, instrument, tuning_cents)
        onsets = [Onset(time_s=e.onset_s, strength=SOFT_STRENGTH if e.soft else 1.0) for e in events]
    else:
        onsets = find_onsets(samples)
    if len(onsets) < FEWEST_ONSETS:
        return None
    beat_quarters = expectation.bars[0].beat_quarters
    table = THREES if abs(beat_quarters - 1.5) < 1e-6 else SIMPLE
    reading = _read_limping(onsets, seconds_per_quarter * beat_quarters, table)
    if len(reading.onsets) < FEWEST_ONSETS:
        return None
    rhythm = _as_expectation(reading, expectation, beat_quarters)
    usual = float(np.median([onsets[i].strength for i in reading.onsets]))
    return Hearing(
        notes=tuple(
            NoteHeard(
                status=Status.CORRECT,
                confidence=float(np.clip(0.5 + 0.4 * onsets[i].strength / usual, 0.5, 0.95)),
                onset_s=onsets[i].time_s,
                timed=True,
            )
            for i in reading.onsets
        ),
        extra=(),
        jumps=(),
        seconds_per_quarter=reading.period_s / beat_quarters,
        share_of_notes=1.0,
        share_of_sounds=1.0,
        tuning=tuning,
        rhythm=rhythm,
    )


def find_onsets(samples: npt.NDArray[np.float32]) -> list[Onset]:
    """Onsets of any kind of sound, in order of time; ``strength`` 1 is the take's usual one."""
    flux = onset_strength(short_time(samples))
    if len(flux) < 30:
        return []
    peaks = np.flatnonzero((flux == maximum_filter1d(flux, 13)) & (flux > OVER_SURROUNDINGS * median_filter(flux, 81) + 0.3))
    if len(peaks) == 0:
        return []
    usual = float(np.median(np.sort(flux[peaks])[-max(3, len(peaks) // 2) :]))
    found: list[Onset] = []
    for peak in peaks.tolist():
        onset = Onset(time_s=peak * FLUX_HOP_S, strength=float(flux[peak]) / usual)
        if onset.strength < SHARE_OF_USUAL:
            continue
        if found and onset.time_s - found[-1].time_s < CLOSE_S:
            if onset.strength > found[-1].strength:
                found[-1] = onset
            continue
        found.append(onset)
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class _Reading:
    """Indices of the onsets that count, their positions in beats, the median period, and what the reading costs."""

    onsets: list[int]
    beats: list[float]
    period_s: float
    cost: float


def _read_limping(onsets: list[Onset], target_s: float, table: dict[float, float]) -> _Reading:
    """The cheapest reading, pairs even or limping one way throughout."""
    even, *limping = (_read(onsets, target_s, _intervals(table, share)) for share in (0.5, *LIMPS))
    best = min(limping, key=lambda r: r.cost)
    return best if best.cost < even.cost - LIMP_GAIN else even


def _intervals(table: dict[float, float], share: float) -> FloatArray:
    """Played length, written length (beats) and cost of every interval when the first half of a beat takes ``share``; shape (3, n).

    An interval of whole beats is as long as written; one that begins or ends half way is longer or shorter.
    """
    found: list[tuple[float, float, float]] = []
    for written, cost in table.items():
        whole, part = divmod(round(written, 6), 1.0)
        if abs(part - 0.5) < 1e-6:
            found += [(whole + share, written, cost), (whole + 1 - share, written, cost)]
        elif abs(part - 1 / 3) < 1e-3 or abs(part - 2 / 3) < 1e-3:
            # Thirds: bent as two straight lines that meet in the middle of the beat.
            first, second = 2 / 3 * share, 1 - 2 / 3 * (1 - share)
            choices = (first, 1 - second, second - first) if part < 0.5 else (second, 1 - first)
            found += [(whole + c, written, cost) for c in choices]
        else:
            found.append((written, written, cost))
    return np.array(found).T


def _read(onsets: list[Onset], target_s: float, intervals: FloatArray) -> _Reading:
    periods = np.asarray(target_s * FASTEST * STEP ** np.arange(int(np.log(SLOWEST / FASTEST) / np.log(STEP)) + 1), dtype=np.float64)
    away = AWAY_COST * np.abs(np.log2(periods / target_s))
    change = CHANGE_COST * np.abs(np.subtract.outer(np.arange(len(periods)), np.arange(len(periods))))
    times, strengths = np.array([o.time_s for o in onsets]), np.array([min(1.0, o.strength) for o in onsets])
    count = len(onsets)
    faint = FAINT_COST * (1 - strengths)
    solid = np.cumsum(strengths > SOFT_STRENGTH)
    # So many solid onsets may be passed over, and any number of faint ones between them.
    reach = [max(j - FARTHEST, int(np.searchsorted(solid, solid[j] - REACH))) for j in range(count)]
    passed = np.concatenate(([0.0], np.cumsum(PASSED_COST * strengths)))
    total = np.full((count, len(periods)), np.inf)
    back = np.full((count, len(periods), 2), -1, dtype=np.int32)
    chosen = np.zeros((count, len(periods)))
    for j in range(count):
        total[j] = EDGE_SHARE * passed[j]
        for i in range(reach[j], j):
            step, beats = _interval_cost(times[j] - times[i], periods, intervals)
            # The period may change from one onset to the next, at a cost.
            arrive = total[i][:, None] + change
            source = arrive.argmin(axis=0)
            value = arrive[source, np.arange(len(periods))] + step + away + passed[j] - passed[i + 1] + faint[j]
            better = value < total[j]
            total[j] = np.where(better, value, total[j])
            back[j, better, 0], back[j, better, 1] = i, source[better]
            chosen[j] = np.where(better, beats, chosen[j])
    left = passed[-1] - passed[1:]
    end = total + EDGE_SHARE * left[:, None]
    j, p = (int(v) for v in np.unravel_index(int(end.argmin()), end.shape))
    indices, steps, used = [], [], []
    while j >= 0:
        indices.append(j)
        steps.append(float(chosen[j, p]))
        used.append(float(periods[p]))
        j, p = int(back[j, p, 0]), int(back[j, p, 1])
    indices.reverse()
    beats_between = steps[::-1][1:]
    beats = np.concatenate(([0.0], np.cumsum(beats_between)))
    # The line may begin inside a beat: what is read must lie on beats rather than between them.
    beats = max((beats + shift for shift in (0.0, 1 / 3, 0.5, 2 / 3)), key=lambda b: float((np.abs(b - np.round(b)) < ON_BEAT).mean()))
    return _Reading(onsets=indices, beats=beats.tolist(), period_s=float(np.median(used)), cost=float(end.min()))


def _interval_cost(seconds: float, periods: FloatArray, intervals: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Cheapest written length of an interval for each period, in cost and in beats; a pause counts as one beat."""
    lengths, written, costs = intervals
    played = seconds / periods[:, None]
    error = np.abs(played - lengths[None, :]) / np.maximum(ERROR_LEAST, ERROR_SHARE * lengths[None, :])
    value = np.minimum(np.square(error), 30.0) + costs[None, :]
    best = value.argmin(axis=1)
    cost, beats = value[np.arange(len(periods)), best], written[best]
    paused = (played[:, 0] > PAUSE_FROM_BEATS) & (cost > PAUSE_COST)
    return np.where(paused, PAUSE_COST, cost), np.where(paused, 1.0, beats)


def _as_expectation(reading: _Reading, expectation: Expectation, beat_quarters: float) -> Expectation:
    """The rhythm as if it had been written, from the first bar's first beat on, in as many bars as it takes."""
    bars = list(expectation.bars)
    last = reading.beats[-1] * beat_quarters
    while bars[-1].start_quarters + bars[-1].length_quarters < last - 1e-6:
        end = bars[-1]
        number = str(int(end.number) + 1) if end.number.isdigit() else end.number
        bars.append(replace(end, number=number, start_quarters=end.start_quarters + end.length_quarters))
    laid = replace(expectation, notes=(), bars=tuple(bars))
    quarters = [b * beat_quarters for b in reading.beats]
    notes = []
    for index, (position, following) in enumerate(zip(quarters, [*quarters[1:], quarters[-1] + beat_quarters], strict=True)):
        bar: PlayedBar = laid.bar_at(position)
        notes.append(
            ExpectedNote(
                id=f"onset-{index + 1}",
                bar=bar.number,
                pass_=bar.pass_,
                beat=position - bar.start_quarters,
                onset_quarters=position,
                duration_quarters=following - position,
                sounding_midi=71,
                written_pitch="B4",
                part=expectation.part,
                staff=1,
                voice="1",
                unpitched=True,
            )
        )
    return replace(laid, notes=tuple(notes))
