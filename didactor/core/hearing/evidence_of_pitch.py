"""A second look at the sound before anybody is accused."""

from __future__ import annotations

import numpy as np

from didactor.core.hearing.events import Event
from didactor.core.hearing.features import Features
from didactor.core.sound.recording import RATE_HZ
from didactor.core.units import midi_to_hz

#: Odd partials of the lower octave stand at least this far below the even ones when only the upper octave sounds, dB.
ODD_PARTIALS_DB = 26.0
NEAR_SEMITONES = 0.45
STAYING_SEMITONES = 0.25


def pitch_is_present(features: Features, midi: int, start_s: float, end_s: float, tuning_cents: float, frames: int) -> bool:
    """Whether at least ``frames`` voiced frames in a row between two times stay at this pitch (or an octave above it).

    In a row, and staying: on its way from one note to the next the fundamental passes everything between them.
    """
    first, last = features.f0_index(start_s - 0.03), features.f0_index(end_s + 0.03)
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
    odd, even = _partials_db(features, event, lower + tuning_cents / 100.0)
    lower_sounds = odd > even - ODD_PARTIALS_DB
    return lower_sounds if event.midi < wanted else not lower_sounds


def _partials_db(features: Features, event: Event, pitch: float) -> tuple[float, float]:
    middle = int((event.onset_s + 0.5 * event.duration_s) * RATE_HZ)
    half = int(min(0.06, max(0.02, 0.4 * event.duration_s)) * RATE_HZ)
    frame = features.samples[max(0, middle - half) : middle + half]
    if len(frame) < 256:
        return -120.0, 0.0
    frame = frame * np.hanning(len(frame))
    base = midi_to_hz(pitch)
    numbers = np.arange(1, 9)
    numbers = numbers[numbers * base < 0.45 * RATE_HZ]
    time = np.arange(len(frame)) / RATE_HZ
    energy = np.abs(np.exp(-2j * np.pi * base * numbers[:, None] * time[None, :]) @ frame) ** 2
    odd, even = energy[numbers % 2 == 1], energy[numbers % 2 == 0]
    return float(10 * np.log10(odd.sum() + 1e-12)), float(10 * np.log10(even.sum() + 1e-12))
