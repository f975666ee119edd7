"""Frame features of a recording, all a listener of one voice needs.

- ``f0_midi``, ``voicing``: fundamental frequency every 16 ms by a small neural network (SwiftF0), fractional MIDI at A4 = 440.
- ``flux``: onset strength every 6 ms, the rise of a log-mel spectrum after a maximum filter over frequency, which keeps
  vibrato from looking like onsets (SuperFlux; Böck & Widmer 2013).
- ``level_db``: level of the same 6 ms frames, dBFS.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
import numpy.typing as npt
import soxr
from scipy.fft import rfft
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from didactor.core.arrays import FloatArray
from didactor.core.instruments import Instrument
from didactor.core.sound.recording import RATE_HZ
from didactor.core.units import A4_HZ, A4_MIDI, hz_to_midi, midi_to_hz

#: What the network for the fundamental takes and gives.
F0_RATE_HZ = 16_000
F0_HOP_S = 0.016
#: Onsets are told to 6 ms; 32 ms of sound see one attack and not the next. Mel bands as in SuperFlux (Böck & Widmer 2013), at half
#: their number: notes, not drums.
FLUX_HOP = 192
FLUX_HOP_S = FLUX_HOP / RATE_HZ
FLUX_WINDOW = 1024
MEL_BANDS = 72
MEL_LOW_HZ, MEL_HIGH_HZ = 60.0, 12_000.0
#: Frames between the two spectra whose difference is the flux: about the half window.
FLUX_LAG = 3
#: The network hears 47-2094 Hz; an instrument that goes beyond is transposed by resampling.
NETWORK_LOW_MIDI, NETWORK_HIGH_MIDI = 31, 95
#: Semitones beyond the instrument's range in which a player's mistakes may still lie.
RANGE_MARGIN = 3
#: Odd partials this far below even ones: the fundamental was taken an octave too low, dB.
HALVED_BELOW_DB = -17.0
#: Partials between those of the chosen fundamental this strong: it was taken an octave too high. Not for low pitches, whose
#: partials the frame cannot tell apart.
DOUBLED_ABOVE_DB, DOUBLED_FROM_MIDI = 3.0, 56


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Features:
    """All arrays are one-dimensional; ``f0_midi`` and ``voicing`` share one clock, ``flux`` and ``level_db`` another."""

    f0_midi: FloatArray
    voicing: FloatArray
    flux: FloatArray
    level_db: FloatArray
    magnitudes: npt.NDArray[np.float32]
    samples: npt.NDArray[np.float32]
    duration_s: float

    def f0_index(self, time_s: float) -> int:
        return max(0, min(round(time_s / F0_HOP_S), len(self.f0_midi) - 1))

    def flux_index(self, time_s: float) -> int:
        return max(0, min(round(time_s / FLUX_HOP_S), len(self.flux) - 1))


@cache
def _network() -> Any:
    from swift_f0 import SwiftF0

    return SwiftF0(threads=1, spin=False)


def listen(samples: npt.NDArray[np.float32], instrument: Instrument) -> Features:
    """Compute the features of mono ``samples`` at ``RATE_HZ`` for one instrument's range."""
    peak = float(np.abs(samples).max()) if len(samples) else 0.0
    normal = samples / peak * 0.7 if peak > 0 else samples
    f0, voicing = _f0(normal, instrument)
    f0 = _settle_octaves(normal, f0)
    magnitudes = short_time(normal)
    flux, level = onset_strength(magnitudes), level_of(normal)
    length = min(len(flux), len(level))
    flux, level = flux[:length], level[:length]
    return Features(
        f0_midi=f0, voicing=voicing, flux=flux, level_db=level, magnitudes=magnitudes, samples=normal, duration_s=len(samples) / RATE_HZ
    )


def _f0(samples: npt.NDArray[np.float32], instrument: Instrument) -> tuple[FloatArray, FloatArray]:
    low, high = instrument.low - RANGE_MARGIN, instrument.high + RANGE_MARGIN
    # Resampling to another rate and reading it as 16 kHz transposes: an octave up for a tuba, down for a piccolo.
    shift = (
        1
        if low < NETWORK_LOW_MIDI - 1 and high < NETWORK_HIGH_MIDI - 12
        else -1
        if low > NETWORK_LOW_MIDI + 24 and high > NETWORK_HIGH_MIDI + 6
        else 0
    )
    rate = F0_RATE_HZ / 2.0**shift
    sound = soxr.resample(samples, RATE_HZ, rate, quality="HQ")
    if len(sound) < 512:
        sound = np.pad(sound, (0, 512 - len(sound)))
    lowest, highest = midi_to_hz(max(low + 12 * shift, NETWORK_LOW_MIDI - 1)), midi_to_hz(min(high + 12 * shift, NETWORK_HIGH_MIDI + 1))
    result = _network().detect(sound, F0_RATE_HZ, fmin=lowest, fmax=highest)
    midi = hz_to_midi(np.asarray(result.pitch_hz, dtype=np.float64)) - 12.0 * shift
    voicing = np.asarray(result.confidence, dtype=np.float64)
    if shift:
        clock = np.arange(0, len(samples) / RATE_HZ, F0_HOP_S)
        own = np.asarray(result.timestamps) * 2.0**shift
        nearest = np.clip(np.searchsorted(own, clock), 0, len(own) - 1)
        midi, voicing = midi[nearest], voicing[nearest]
    return midi, voicing


def _settle_octaves(samples: npt.NDArray[np.float32], f0_midi: FloatArray) -> FloatArray:
    """Frames in which the network chose half or twice the true frequency, put right.

    At the true fundamental odd partials are about as strong as even ones. At half of it the odd ones are only noise (measured:
    below -25 dB of the even ones, against above -9 dB in right frames of eleven instruments). At twice of it there are strong
    partials half-way between (above +8 dB, against below -7 dB where low pitch does not blur them).
    """
    size, hop = 2048, int(F0_HOP_S * RATE_HZ)
    padded = np.pad(samples, (size // 2, size // 2 + hop))
    count = min(len(f0_midi), 1 + (len(padded) - size) // hop)
    window = np.hanning(size).astype(np.float32)
    result = f0_midi.copy()
    for start in range(0, count, 2000):
        rows = np.arange(start, min(count, start + 2000))
        frames = np.lib.stride_tricks.sliding_window_view(padded, size)[rows * hop]
        power = np.square(np.abs(rfft(frames * window, axis=1)))
        bins = A4_HZ * 2 ** ((f0_midi[rows] - A4_MIDI) / 12) / (RATE_HZ / size)
        result[rows] += np.where(_odd_over_even_db(power, bins) < HALVED_BELOW_DB, 12.0, 0.0)
        doubled = (_odd_over_even_db(power, bins / 2) > DOUBLED_ABOVE_DB) & (f0_midi[rows] > DOUBLED_FROM_MIDI)
        result[rows] -= np.where(doubled, 12.0, 0.0)
    return result


def _odd_over_even_db(power: npt.NDArray[np.float32], base_bins: FloatArray) -> FloatArray:
    """Energy of the odd over the even partials (1 to 8) of a fundamental given in bins, per frame, in dB."""
    rows, last = np.arange(len(base_bins)), power.shape[1] - 2
    sums = [np.full(len(rows), 1e-12), np.full(len(rows), 1e-12)]
    for number in range(1, 9):
        bins = np.round(base_bins * number).astype(int)
        inside = bins <= last
        bins = np.clip(bins, 1, last)
        sums[number % 2] += inside * np.maximum(np.maximum(power[rows, bins - 1], power[rows, bins]), power[rows, bins + 1])
    return np.asarray(10 * np.log10(sums[1] / sums[0]))


def level_of(samples: npt.NDArray[np.float32]) -> FloatArray:
    """Level in dBFS every ``FLUX_HOP_S`` seconds, over twice that time."""
    power = uniform_filter1d(np.square(samples, dtype=np.float64), FLUX_HOP * 2)[::FLUX_HOP]
    return np.asarray(10 * np.log10(np.maximum(power, 1e-10)))


@cache
def _mel_matrix() -> npt.NDArray[np.float32]:
    def to_mel(hz: Any) -> Any:
        return 2595.0 * np.log10(1.0 + np.asarray(hz) / 700.0)

    bins = np.fft.rfftfreq(FLUX_WINDOW, 1 / RATE_HZ)
    edges = np.linspace(to_mel(MEL_LOW_HZ), to_mel(MEL_HIGH_HZ), MEL_BANDS + 2)
    position = to_mel(bins)[:, None]
    rising = (position - edges[:-2]) / (edges[1:-1] - edges[:-2])
    falling = (edges[2:] - position) / (edges[2:] - edges[1:-1])
    return np.asarray(np.maximum(0.0, np.minimum(rising, falling)), dtype=np.float32)


def short_time(samples: npt.NDArray[np.float32]) -> npt.NDArray[np.float32]:
    """Magnitudes every ``FLUX_HOP_S`` seconds, shape (frames, ``FLUX_WINDOW`` // 2 + 1)."""
    half = FLUX_WINDOW // 2
    padded = np.pad(samples, (half, half))
    count = max(1, 1 + (len(padded) - FLUX_WINDOW) // FLUX_HOP)
    window = np.hanning(FLUX_WINDOW).astype(np.float32)
    magnitudes = np.empty((count, half + 1), dtype=np.float32)
    for start in range(0, count, 2000):
        index = np.arange(start, min(count, start + 2000))
        frames = np.lib.stride_tricks.sliding_window_view(padded, FLUX_WINDOW)[index * FLUX_HOP]
        magnitudes[index] = np.abs(rfft(frames * window, axis=1))
    return magnitudes


def onset_strength(magnitudes: npt.NDArray[np.float32]) -> FloatArray:
    """Rise of the log-mel spectrum, every ``FLUX_HOP_S`` seconds."""
    mel = magnitudes @ _mel_matrix()
    loud = max(float(np.percentile(mel.sum(axis=1), 95)) / MEL_BANDS, 1e-6)
    log_mel = np.log10(1.0 + 100.0 * mel / loud)
    reference = maximum_filter1d(log_mel, 3, axis=1)
    rise = np.zeros(len(mel))
    rise[FLUX_LAG:] = np.maximum(0.0, log_mel[FLUX_LAG:] - reference[:-FLUX_LAG]).sum(axis=1)
    # The rise between two spectra belongs to the moment between them.
    return np.roll(rise, -(FLUX_LAG // 2))


def steadiness(features: Features) -> float:
    """Share of voiced frames (0..1) whose pitch stays within a tenth of a semitone from frame to frame: playing holds, talk glides."""
    voiced = (features.voicing[1:] > 0.6) & (features.voicing[:-1] > 0.6)
    if voiced.sum() < 5:
        return 0.0
    return float((np.abs(np.diff(features.f0_midi))[voiced] < 0.1).mean())
