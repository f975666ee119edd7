"""A second look at the sound before anybody is accused."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft

from didactor.core.hearing.events import Event
from didactor.core.hearing.features import F0_HOP_S, FLUX_HOP_S, Features
from didactor.core.hearing.partials import distinct_partials_hz
from didactor.core.peaks import vertex
from didactor.core.sound.recording import RATE_HZ
from didactor.core.units import midi_to_hz

#: Odd partials of the lower octave stand at least this far below the even ones when only the upper octave sounds, dB; and less far than
#: that when the lower one does (development set: 1 % of lower notes are beyond -12). Between lies what a room fills up.
ONLY_UPPER_DB, LOWER_SOUNDS_DB = 26.0, 14.0
#: What is weaker by this than just before the onset fades.
FADES_DB, AWAY_FROM_ONSET_S = 4.0, 0.02
NEAR_SEMITONES = 0.45
STAYING_SEMITONES = 0.25
CLEAR_VOICING, EXPLAINED_SHARE = 0.8, 0.65
#: Rise of a note's own partials that proves its onset, dB.
CONFIRM_DB = 7.0
SOFT_BEGINNING_DB = 3.0
#: The length of sound that a pitch is measured on (also in its periods), how far from the guess it is sought, and on which partials.
STEADY_LEAST_S, STEADY_AT_MOST_S, STEADY_PERIODS, STEADY_REACH_CENTS = 0.06, 0.6, 10, 45.0
STEADY_PARTIALS, STEADY_TO_HZ = 6, 3000.0
#: A tone's growth is followed from so long before its onset until so long after, and must be at least this many fold.
SPEAKS_BEFORE_S, SPEAKS_WITHIN_S, SPEAKS_HOP_S, SPEAKS_RISE, LOW_PITCH = 0.08, 0.12, 0.006, 2.0, 55
ATTACK_DB, LONGEST_ATTACK_S = 5.0, 0.15


def pitch_is_present(features: Features, midi: int, start_s: float, end_s: float, tuning_cents: float, frames: int) -> bool:
    """Whether at least ``frames`` voiced frames in a row between two times stay at this pitch (or an octave above it).

    In a row, and staying: on its way from one note to the next the fundamental passes everything between them.
    """
    first, last = features.f0_index(start_s), features.f0_index(end_s)
    pitch = features.f0_midi[first : last + 1] - tuning_cents / 100.0
    voiced = features.voicing[first : last + 1] > 0.4
    away = np.abs(pitch - midi)
    near = (away < NEAR_SEMITONES) | (np.abs(away - 12) < NEAR_SEMITONES / 2)
    staying = near & voiced & (np.abs(np.diff(pitch, prepend=pitch[:1])) < STAYING_SEMITONES)
    longest = run = 0
    for frame in staying.tolist():
        run = run + 1 if frame else 0
        longest = max(longest, run)
    return longest >= frames


def octave_is_confirmed(features: Features, event: Event, wanted: int, tuning_cents: float) -> bool:
    """Whether an event heard an octave from the written note really lies there.

    Heard below: the lower pitch is real when its odd partials are there. Heard above: it is real when the odd partials of
    the written, lower pitch are not.
    """
    lower = min(event.midi, wanted)
    half_s = min(0.06, max(0.02, 0.4 * event.duration_s))
    odd, even = _partials_db(features, event.onset_s + 0.5 * event.duration_s, half_s, lower + tuning_cents / 100.0)
    if event.midi > wanted:
        return odd <= even - ONLY_UPPER_DB
    # After the lower note itself the room may hold its partials: they fade then, instead of being played again.
    before, _ = _partials_db(features, event.onset_s - half_s - AWAY_FROM_ONSET_S, half_s, lower + tuning_cents / 100.0)
    return odd > even - LOWER_SOUNDS_DB and odd > before - FADES_DB


def _partials_db(features: Features, centre_s: float, half_s: float, pitch: float) -> tuple[float, float]:
    """Energy of the odd and of the even partials of a pitch around a time, dB."""
    middle, half = int(centre_s * RATE_HZ), int(half_s * RATE_HZ)
    cut = features.samples[max(0, middle - half) : middle + half]
    if len(cut) < 256:
        return -120.0, 0.0
    frame = cut * np.hanning(len(cut))
    base = midi_to_hz(pitch)
    numbers = np.arange(1, 9)
    numbers = numbers[numbers * base < 0.45 * RATE_HZ]
    time = np.arange(len(frame)) / RATE_HZ
    energy = np.abs(np.exp(-2j * np.pi * base * numbers[:, None] * time[None, :]) @ frame) ** 2
    odd, even = energy[numbers % 2 == 1], energy[numbers % 2 == 0]
    return float(10 * np.log10(odd.sum() + 1e-12)), float(10 * np.log10(even.sum() + 1e-12))


def span_is_explained(features: Features, start_s: float, end_s: float, pitches: list[float], quiet_db: float) -> bool:
    """Whether the sound between two times is clearly something else: silence, or steady tones at other ``pitches``.

    A note is called missed only then; where the sound is blurred nobody can tell.
    """
    first, last = features.f0_index(start_s), features.f0_index(end_s)
    if last <= first:
        return False
    pitch, voicing = features.f0_midi[first : last + 1], features.voicing[first : last + 1]
    clear = np.zeros(len(pitch), dtype=bool)
    for other in pitches:
        clear |= (np.abs(pitch - other) < NEAR_SEMITONES) & (voicing > CLEAR_VOICING)
    level = np.array([features.level_db[features.flux_index(k * F0_HOP_S)] for k in range(first, last + 1)])
    return bool((clear | (level < quiet_db)).mean() >= EXPLAINED_SHARE)


def onset_is_confirmed(features: Features, pitch: float, before: float | None, onset_s: float, due_s: float) -> bool:
    """Whether a displaced onset is really there: late, the note's partials must not sound half-way from where they were due;
    early, they must rise at the onset itself. Partials shared with the note before say nothing; with none left the answer is no.
    """
    partials = distinct_partials_hz(pitch, before)
    if len(partials) == 0:
        return False
    after = _energy_db(features, partials, onset_s + 0.05)
    if onset_s > due_s:
        # A soft beginning at the due time, swelling later, is no late note.
        begun = _energy_db(features, partials, due_s + 0.03) - _energy_db(features, partials, due_s - 0.06)
        if begun > SOFT_BEGINNING_DB:
            return False
    probe = 0.5 * (onset_s + due_s) if onset_s > due_s else onset_s - 0.05
    return after - _energy_db(features, partials, min(probe, onset_s - 0.03)) > CONFIRM_DB


def attack_s(features: Features, event: Event) -> float:
    """Time from an event's onset until its level is within ``ATTACK_DB`` of the note's own, at most ``LONGEST_ATTACK_S``."""
    first = features.flux_index(event.onset_s)
    levels = features.level_db[first : features.flux_index(event.onset_s + LONGEST_ATTACK_S) + 1]
    there = np.flatnonzero(levels >= event.level_db - ATTACK_DB)
    return float(there[0]) * FLUX_HOP_S if len(there) else LONGEST_ATTACK_S


def speaks_at(features: Features, onset_s: float, pitch: float, before: float | None) -> float:
    """When a tone that grows has reached half of what it soon reaches: where a listener hears it begin (Vos & Rasch 1981).

    The flux peaks where the rise is steepest, which in a slow attack is up to 60 ms earlier or later. Measured on the partials that the
    note before does not share; ``onset_s`` itself where there are none, or where nothing rises.
    """
    partials = distinct_partials_hz(pitch, before)
    window = 2048 if pitch < LOW_PITCH else 1024
    centres = np.round((onset_s + np.arange(-SPEAKS_BEFORE_S, SPEAKS_WITHIN_S, SPEAKS_HOP_S)) * RATE_HZ).astype(int)
    inside = (centres > window // 2) & (centres < len(features.samples) - window // 2)
    if len(partials) == 0 or inside.sum() < len(centres) - 2:
        return onset_s
    centres = centres[inside]
    frames = np.lib.stride_tricks.sliding_window_view(features.samples, window)[centres - window // 2]
    kernel = np.exp(-2j * np.pi * np.arange(window)[:, None] * partials[None, :] / RATE_HZ) * np.hanning(window)[:, None]
    level = np.sqrt(np.square(np.abs(frames @ kernel)).sum(axis=1))
    peak = int(np.argmax(level))
    floor = float(level[: peak + 1].min())
    if level[peak] < SPEAKS_RISE * floor:
        return onset_s
    lowest = int(np.argmin(level[: peak + 1]))
    half = floor + 0.5 * (float(level[peak]) - floor)
    above = lowest + int(np.argmax(level[lowest : peak + 1] >= half))
    if above == 0:
        return onset_s
    share = (half - level[above - 1]) / max(float(level[above] - level[above - 1]), 1e-12)
    return float((centres[above - 1] + share * (centres[above] - centres[above - 1])) / RATE_HZ)


def _energy_db(features: Features, partials: npt.NDArray[np.float64], at_s: float) -> float:
    half = 512
    middle = int(np.clip(at_s * RATE_HZ, half, max(half, len(features.samples) - half)))
    frame = features.samples[middle - half : middle + half] * np.hanning(2 * half)
    time = np.arange(len(frame)) / RATE_HZ
    return float(10 * np.log10(np.square(np.abs(np.exp(-2j * np.pi * partials[:, None] * time[None, :]) @ frame)).sum() + 1e-9))


def steady_pitch(features: Features, start_s: float, end_s: float, pitch: float) -> float | None:
    """Pitch of a tone between two times, fractional MIDI, measured on its partials near ``pitch``; None where they are too weak.

    The network that finds fundamentals is off by up to 10 cents for some pitches. Each partial's frequency is the vertex of a
    parabola through its logarithmic peak; a higher partial tells cents more finely, a stronger one more surely, so their weighted
    median is taken.
    """
    end_s = min(end_s, start_s + STEADY_AT_MOST_S)
    piece = features.samples[int(start_s * RATE_HZ) : int(end_s * RATE_HZ)]
    base = float(midi_to_hz(pitch))
    if len(piece) < RATE_HZ * max(STEADY_LEAST_S, STEADY_PERIODS / base):
        return None
    size = 1 << (2 * len(piece) - 1).bit_length()
    magnitude = np.abs(rfft(piece * np.hanning(len(piece)).astype(np.float32), size)) + 1e-9
    found, weights = [], []
    for number in range(1, STEADY_PARTIALS + 1):
        due = number * base * size / RATE_HZ
        reach = due * (2 ** (STEADY_REACH_CENTS / 1200) - 1)
        first, last = max(1, int(due - reach)), int(due + reach) + 2
        if number * base > STEADY_TO_HZ or last >= len(magnitude) - 1:
            break
        peak = first + int(np.argmax(magnitude[first:last]))
        left, centre, right = np.log(magnitude[peak - 1 : peak + 2])
        if centre < max(left, right):
            continue
        found.append(12 * float(np.log2((peak + vertex(left, centre, right)) / due)))
        weights.append(number * float(magnitude[peak]))
    if not found:
        return None
    order = np.argsort(found)
    total = np.cumsum(np.array(weights)[order])
    return pitch + found[int(order[np.searchsorted(total, 0.5 * total[-1])])]
