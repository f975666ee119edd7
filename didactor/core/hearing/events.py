"""Frames to note events for one voice.

A hidden Markov chain over semitones and silence follows the fundamental (as in monophonic transcription by Ryynänen & Klapuri
2008, with a flat musicological model: the score must not tell the ear what to hear). Each segment's start is moved to the
strongest onset nearby. Onsets inside a segment split it; where the level does not dip before them the split is *soft*:
perhaps a repeated note, perhaps a bow's change or a swell. The alignment may pass over soft splits cheaply.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.hearing.features import F0_HOP_S, FLUX_HOP_S, Features
from didactor.core.hearing.partials import distinct_partials_hz
from didactor.core.instruments import Instrument
from didactor.core.peaks import vertex
from didactor.core.sound.recording import RATE_HZ

#: Cost of leaving a state, in frames of clear evidence.
CHANGE_COST = 2.6
#: Deviation (semitones) that costs one unit, and the most a frame may cost: an octave error is no worse than any other.
PITCH_SCALE, PITCH_COST_CAP = 0.45, 2.5
MIN_NOTE_S = 0.045
SNAP_BEFORE_S, SNAP_AFTER_S = 0.075, 0.06
MIN_SPLIT_S = 0.075
DIP_DB = 2.5
#: A stretch an octave off, this short and without an onset of this share nearby, belongs to its neighbour.
FLICKER_S, FLICKER_SHARE, FLICKER_NEAR_S = 0.16, 0.4, 0.035
RISE_BEFORE_S, RISE_AFTER_S = 0.24, 0.07
#: An onset counts from this share of the take's typical onset strength on.
STRONG_SHARE, WEAK_SHARE = 0.5, 0.18
#: Of a string or key that was struck, a second stroke has at least this share of the first one's onset: the middle, on a scale of ratios,
#: between strokes alike (1) and the string's own beating and the room (1/35).
STRUCK_SHARE = 0.17
#: A hard split is this much stronger than the segment's median onset.
STAND_OUT = 1.5


@dataclass(frozen=True, slots=True, kw_only=True)
class Event:
    """One sound heard. ``soft`` events began without a dip in level and with the pitch unchanged. ``began_s``: another reading of
    the onset, where a slow attack leaves room for two.
    """

    onset_s: float
    offset_s: float
    midi: int
    pitch: float
    spread: float
    level_db: float
    voicing: float
    strength: float
    soft: bool = False
    began_s: float | None = None

    @property
    def duration_s(self) -> float:
        return self.offset_s - self.onset_s


def find_tuning(features: Features) -> tuple[float, float]:
    """Offset of the take from A4 = 440 in cents (-50..50), and how concentrated the evidence is (0..1).

    The circular mean of the voiced frames' deviations from the semitone grid, steady frames only.
    """
    midi, voiced = features.f0_midi, features.voicing > 0.8
    steady = voiced & (np.abs(np.gradient(midi)) < 0.08) if len(midi) > 2 else voiced
    if steady.sum() < 10:
        return 0.0, 0.0
    phase = np.exp(2j * np.pi * midi[steady])
    mean = complex(phase.mean())
    return float(np.angle(mean) / (2 * np.pi) * 100.0), float(abs(mean))


def find_events(features: Features, instrument: Instrument, tuning_cents: float) -> list[Event]:
    """All sounds of one voice, in order of time."""
    low, high = max(12, instrument.low - 5), min(120, instrument.high + 5)
    states = _decode_states(features, low, high, tuning_cents)
    edges = np.flatnonzero(np.diff(states)) + 1
    bounds = [0, *edges.tolist(), len(states)]
    peaks = _flux_peaks(features)
    typical = float(np.percentile(features.flux[peaks], 70)) if len(peaks) else 1.0
    segments = []
    for start, end in itertools.pairwise(bounds):
        state = int(states[start])
        if state < 0:
            continue
        segments.append((start * F0_HOP_S - F0_HOP_S / 2, end * F0_HOP_S - F0_HOP_S / 2, state))
    segments = _join_octave_flickers(_drop_slivers(segments), features, peaks, typical, instrument)
    events: list[Event] = []
    for index, (start_s, end_s, state) in enumerate(segments):
        after_silence = index == 0 or start_s - segments[index - 1][1] > 0.03
        around_s = start_s
        if not after_silence and segments[index - 1][2] != state:
            around_s = harmonic_rise(features, start_s, state + tuning_cents / 100.0, segments[index - 1][2] + tuning_cents / 100.0)
        onset_s, strength = _snap(features, peaks, around_s, after_silence, typical)
        if events and onset_s < events[-1].onset_s + MIN_NOTE_S:
            onset_s = max(start_s, events[-1].onset_s + MIN_NOTE_S)
        if events and events[-1].offset_s > onset_s:
            events[-1] = _trim(features, events[-1], onset_s, tuning_cents)
        same_pitch = not after_silence and bool(events) and events[-1].midi == state
        pieces = _split(features, peaks, typical, onset_s, end_s, STRUCK_SHARE * strength if instrument.decays else 0.0)
        for number, (piece_start, piece_end, piece_strength, soft) in enumerate(pieces):
            first = number == 0
            events.append(
                _event(
                    features,
                    piece_start,
                    piece_end,
                    state,
                    tuning_cents,
                    strength if first else piece_strength,
                    soft=(same_pitch and first) or (soft and not first),
                )
            )
    return [e for e in events if e.duration_s > 0.02]


def _decode_states(features: Features, low: int, high: int, tuning_cents: float) -> np.ndarray:
    """Most probable state per f0 frame: a MIDI number, or -1 for silence (Viterbi with a flat cost of change)."""
    pitches = np.arange(low, high + 1)
    deviation = np.abs(features.f0_midi[:, None] - tuning_cents / 100.0 - pitches[None, :])
    voicing = features.voicing[:, None]
    cost = voicing * np.minimum(deviation / PITCH_SCALE, PITCH_COST_CAP) + (1 - voicing) * 1.0
    silence = 1.6 * features.voicing
    costs = np.concatenate((silence[:, None], cost), axis=1)
    count, size = costs.shape
    total = costs[0].copy()
    back = np.empty((count, size), dtype=np.int16)
    stay = np.arange(size)
    for t in range(1, count):
        best = int(np.argmin(total))
        change = total[best] + CHANGE_COST
        changed = total > change
        back[t] = np.where(changed, best, stay)
        total = np.where(changed, change, total) + costs[t]
    path = np.empty(count, dtype=np.int16)
    path[-1] = int(np.argmin(total))
    for t in range(count - 1, 0, -1):
        path[t - 1] = back[t, path[t]]
    return np.where(path == 0, -1, path - 1 + low)


def _drop_slivers(segments: list[tuple[float, float, int]]) -> list[tuple[float, float, int]]:
    """Segments too short to be notes go; their time goes to the neighbour they touch."""
    kept: list[tuple[float, float, int]] = []
    for start, end, state in segments:
        if end - start < MIN_NOTE_S:
            if kept and abs(kept[-1][1] - start) < 0.02:
                kept[-1] = (kept[-1][0], end, kept[-1][2])
            continue
        if kept and kept[-1][2] == state and start - kept[-1][1] < 0.02:
            kept[-1] = (kept[-1][0], end, state)
            continue
        kept.append((start, end, state))
    return kept


def _join_octave_flickers(
    segments: list[tuple[float, float, int]], features: Features, peaks: np.ndarray, typical: float, instrument: Instrument
) -> list[tuple[float, float, int]]:
    """Join a short stretch with its neighbour an octave away when no onset parts them: one sound, whose attack hid an octave.

    A string or a key that was struck cannot change its octave without being struck again, however long either stretch lasts: while it
    dies away the one partial and the other are the loudest in turn. Its octave is that of the longest part of it.
    """
    longest_s = np.inf if instrument.decays else FLICKER_S
    lasted: list[dict[int, float]] = []
    strong = peaks[features.flux[peaks] > FLICKER_SHARE * typical] * FLUX_HOP_S
    joined: list[tuple[float, float, int]] = []
    for segment in segments:
        joined.append(segment)
        lasted.append({segment[2]: segment[1] - segment[0]})
        while len(joined) > 1:
            (start, end, state), (next_start, next_end, next_state) = joined[-2:]
            shorter = min(end - start, next_end - next_start)
            apart = abs(next_state - state)
            if next_start - end > 0.02 or apart not in (0, 12, 24) or (apart and shorter > longest_s):
                break
            if len(strong) and np.abs(strong - next_start).min() < FLICKER_NEAR_S:
                break
            for octave, seconds in lasted.pop().items():
                lasted[-1][octave] = lasted[-1].get(octave, 0.0) + seconds
            longer = state if end - start >= next_end - next_start else next_state
            if instrument.decays:
                longer = max(lasted[-1], key=lambda octave: lasted[-1][octave])
            joined[-2:] = [(start, next_end, longer)]
    return joined


def _flux_peaks(features: Features) -> np.ndarray:
    """Indices of local maxima of the flux within 30 ms that stand out from their surroundings."""
    from scipy.ndimage import maximum_filter1d, median_filter

    flux = features.flux
    if len(flux) < 5:
        return np.zeros(0, dtype=int)
    local = maximum_filter1d(flux, 11)
    surroundings = median_filter(flux, 61)
    return np.flatnonzero((flux == local) & (flux > surroundings * 1.5 + 0.3))


def _snap(features: Features, peaks: np.ndarray, start_s: float, after_silence: bool, typical: float) -> tuple[float, float]:
    """The onset near a segment's start: the strongest flux peak, nearer ones preferred; else the start itself."""
    before = SNAP_BEFORE_S + (0.05 if after_silence else 0.0)
    times = peaks * FLUX_HOP_S
    near = peaks[(times >= start_s - before) & (times <= start_s + SNAP_AFTER_S)]
    if len(near) == 0:
        return max(0.0, start_s), 0.0
    distance = np.abs(near * FLUX_HOP_S - start_s + 0.01)
    score = features.flux[near] * np.exp(-((distance / 0.06) ** 2))
    best = int(np.argmax(score))
    strength = float(features.flux[near[best]]) / max(typical, 1e-6)
    if strength < 0.12:
        return max(0.0, start_s), strength
    return _interpolate(features.flux, int(near[best])) * FLUX_HOP_S, strength


def harmonic_rise(features: Features, near_s: float, pitch: float, before: float) -> float:
    """When the partials of a new pitch rise, for a note that grows out of the one before (legato, a room's tail).

    The fundamental tracker changes over only when the new note is the stronger one, up to 0.1 s late. Partials within half a
    semitone of a partial of the pitch before say nothing and are left out. Returns ``near_s`` where nothing rises.
    """
    partials = distinct_partials_hz(pitch, before)
    if len(partials) == 0:
        return near_s
    window = 2048 if pitch < 55 else 1024
    centres = np.round((near_s + np.arange(-RISE_BEFORE_S, RISE_AFTER_S, FLUX_HOP_S)) * RATE_HZ).astype(int)
    centres = centres[(centres > window // 2) & (centres < len(features.samples) - window // 2)]
    if len(centres) < 8:
        return near_s
    frames = np.lib.stride_tricks.sliding_window_view(features.samples, window)[centres - window // 2]
    kernel = np.exp(-2j * np.pi * np.arange(window)[:, None] * partials[None, :] / RATE_HZ) * np.hanning(window)[:, None]
    energy = np.abs(frames @ kernel)
    loud = np.maximum(energy.max(axis=0), 0.02 * energy.max())
    rising = np.log10(1.0 + 30.0 * energy / loud).sum(axis=1)
    slope = rising[4:] - rising[:-4]
    best = int(np.argmax(slope))
    return float(centres[best + 2] / RATE_HZ) if slope[best] > 0.15 * len(partials) else near_s


def _interpolate(flux: FloatArray, index: int) -> float:
    """Parabolic interpolation of a peak, in frames."""
    if not 0 < index < len(flux) - 1:
        return float(index)
    return index + vertex(*flux[index - 1 : index + 2])


def _split(
    features: Features, peaks: np.ndarray, typical: float, onset_s: float, end_s: float, least: float
) -> list[tuple[float, float, float, bool]]:
    """Cut a segment of one pitch at onsets inside it: (start, end, strength, soft) each. No hard cut is weaker than ``least``."""
    times = peaks * FLUX_HOP_S
    inside = peaks[(times > onset_s + MIN_SPLIT_S) & (times < end_s - MIN_SPLIT_S)]
    cuts: list[tuple[float, float, bool]] = []
    strengths = features.flux[inside] / max(typical, 1e-6)
    # A tremolo or a beating partial makes many alike; a new stroke stands out among them.
    ordinary = float(np.median(strengths)) if len(strengths) > 2 else 0.0
    for peak, strength in zip(inside, strengths.tolist(), strict=True):
        if strength < WEAK_SHARE:
            continue
        here = int(peak)
        before = features.level_db[max(0, here - 12) : here + 2]
        earlier = features.level_db[max(0, here - 30) : max(1, here - 10)]
        after = features.level_db[here : here + 12]
        dip = float(min(np.median(earlier), after.max()) - before.min()) if len(before) and len(earlier) and len(after) else 0.0
        rise = float(after.max() - before.min()) if len(after) and len(before) else 0.0
        hard = strength > max(STRONG_SHARE, STAND_OUT * ordinary, least) and (dip > DIP_DB or rise > 6.0)
        if not hard and dip < 0.5 and rise < 2.0:
            continue
        cuts.append((_interpolate(features.flux, here) * FLUX_HOP_S, strength, not hard))
    starts = [(onset_s, 1.0, False), *cuts]
    ends = [c[0] for c in cuts] + [end_s]
    return [(s, e, strength, soft) for (s, strength, soft), e in zip(starts, ends, strict=True)]


def _event(features: Features, start_s: float, end_s: float, state: int, tuning_cents: float, strength: float, *, soft: bool) -> Event:
    first, last = features.f0_index(start_s + 0.2 * (end_s - start_s)), features.f0_index(end_s)
    first = min(first, max(0, last - 1))
    pitch = features.f0_midi[first : last + 1]
    voicing = features.voicing[first : last + 1]
    own = np.sort(pitch[(voicing > 0.5) & (np.abs(pitch - tuning_cents / 100.0 - state) < 0.9)])
    levels = np.sort(features.level_db[features.flux_index(start_s) : features.flux_index(end_s) + 1])
    return Event(
        onset_s=start_s,
        offset_s=end_s,
        midi=state,
        pitch=_quantile(own, 0.5) if len(own) else float(state) + tuning_cents / 100.0,
        spread=_quantile(own, 0.8) - _quantile(own, 0.2) if len(own) > 2 else 1.0,
        level_db=_quantile(levels, 0.8) if len(levels) else -100.0,
        voicing=float(voicing.mean()) if len(voicing) else 0.0,
        strength=strength,
        soft=soft,
    )


def _quantile(ordered: FloatArray, share: float) -> float:
    """Of values in order. A take asks for over a thousand, and the library's own takes ten times as long for few values."""
    place = share * (len(ordered) - 1)
    low = int(place)
    high = min(low + 1, len(ordered) - 1)
    return float(ordered[low] + (place - low) * (ordered[high] - ordered[low]))


def _trim(features: Features, event: Event, end_s: float, tuning_cents: float) -> Event:
    return _event(features, event.onset_s, max(end_s, event.onset_s + 0.02), event.midi, tuning_cents, event.strength, soft=event.soft)
