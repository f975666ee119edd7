"""Short-time spectrum of a recording for questions about single pitches: when did these partials rise, how are they tuned.

The rise is taken between two spectra about a half window apart, after a maximum filter over frequency, which keeps vibrato from
looking like onsets (SuperFlux; Böck & Widmer 2013), and only in the bins of one pitch's partials.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft
from scipy.ndimage import maximum_filter1d

from didactor.core.arrays import FloatArray
from didactor.core.hearing.features import FLUX_HOP_S, FLUX_WINDOW
from didactor.core.peaks import vertex
from didactor.core.sound.recording import RATE_HZ
from didactor.core.units import hz_to_midi, midi_to_hz

HOP_S = FLUX_HOP_S
WINDOW = FLUX_WINDOW
BIN_HZ = RATE_HZ / WINDOW
#: Frames between the two spectra whose difference is the rise.
LAG = 3
#: Highest frequency kept, and partials looked at.
TOP_HZ, PARTIALS = 6000.0, 10
#: Magnitudes are compressed as log10(1 + COMPRESSION * magnitude / loud).
COMPRESSION = 10.0
#: Partials closer than this (semitones) to one of another pitch say nothing about either.
SHARED_SEMITONES = 0.6
CARRIED_DB = -28.0
#: A note's own level is read from its lowest partials, this long after its onset.
LOWEST_PARTIALS, SOUNDING_FROM_S, SOUNDING_TO_S = 3, 0.02, 0.14
TUNING_WINDOW, TUNING_HOP = 8192, 4096
TUNING_LOW_HZ, TUNING_HIGH_HZ = 80.0, 1000.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Spectrum:
    """``level``: compressed magnitude, shape (frames, bins up to ``TOP_HZ``); ``rise``: its increase, same shape."""

    level: npt.NDArray[np.float32]
    rise: npt.NDArray[np.float32]

    def frame(self, time_s: float) -> int:
        return max(0, min(round(time_s / HOP_S), len(self.level) - 1))


def spectrum(magnitudes: npt.NDArray[np.float32]) -> Spectrum:
    """Spectrum from the magnitudes of ``features.short_time``, shape (frames, bins)."""
    level = magnitudes[:, : int(TOP_HZ / BIN_HZ) + 1]
    if len(level) < LAG + 2:
        level = np.pad(level, ((0, LAG + 2 - len(level)), (0, 0)))
    loud = max(float(np.percentile(level.max(axis=1), 90)), 1e-6)
    level = np.log10(1.0 + level * np.float32(COMPRESSION / loud))
    rise = np.zeros_like(level)
    rise[LAG:] = np.maximum(0.0, level[LAG:] - maximum_filter1d(level, 3, axis=1)[:-LAG])
    # The rise between two spectra belongs to the moment between them.
    return Spectrum(level=level, rise=np.roll(rise, -(LAG // 2), axis=0))


def partial_bins(pitch: float, others: tuple[float, ...] = ()) -> npt.NDArray[np.int64]:
    """Bins of the partials of a pitch (fractional MIDI) that it shares with none of the ``others``."""
    partials = midi_to_hz(pitch) * np.arange(1, PARTIALS + 1)
    partials = partials[partials < TOP_HZ - 2 * BIN_HZ]
    if others:
        foreign = np.concatenate([midi_to_hz(o) * np.arange(1, 2 * PARTIALS) for o in others])
        near = np.abs(12 * np.log2(partials[:, None] / foreign[None, :])).min(axis=1)
        partials = partials[(near > SHARED_SEMITONES) & (np.abs(partials[:, None] - foreign[None, :]).min(axis=1) > 1.5 * BIN_HZ)]
    return np.round(partials / BIN_HZ).astype(np.int64)


def own_level_db(spectrum: Spectrum, pitch: float, others: tuple[float, ...], time_s: float) -> float | None:
    """How loud a note of several is to an ear just after its onset: the power of its own partials, A-weighted, dB.

    None where its fundamental and all but one of its lowest partials are shared with the ``others``: then most of it is not its own.
    The scale is common to one recording.
    """
    lowest, own = partial_bins(pitch)[:LOWEST_PARTIALS], partial_bins(pitch, others)
    if lowest[0] not in own and np.isin(own, lowest).sum() < 2:
        return None
    first, last = spectrum.frame(time_s + SOUNDING_FROM_S), spectrum.frame(time_s + SOUNDING_TO_S)
    part = 10.0 ** spectrum.level[first : last + 1].astype(np.float64) - 1.0
    wide = np.maximum(np.maximum(part[:, own - 1], part[:, own]), part[:, own + 1]).max(axis=0)
    return float(10 * np.log10(np.square(wide * a_weight(own * BIN_HZ)).sum() + 1e-8))


def a_weight(frequency_hz: npt.NDArray[np.floating]) -> FloatArray:
    """Weight of a magnitude at a frequency by the A curve (IEC 61672-1), 1 at 1000 Hz."""
    square = np.square(frequency_hz)
    weight = 12194.0**2 * square**2 / ((square + 20.6**2) * np.sqrt((square + 107.7**2) * (square + 737.9**2)) * (square + 12194.0**2))
    return np.asarray(weight * 10 ** (2.0 / 20))


def rise_of(spectrum: Spectrum, bins: npt.NDArray[np.int64], first: int, last: int) -> FloatArray:
    """Mean rise over the given bins (each with its neighbours) for frames ``first`` to ``last``, inclusive."""
    if len(bins) == 0:
        return np.zeros(last - first + 1)
    part = spectrum.rise[first : last + 1]
    wide = np.maximum(np.maximum(part[:, bins - 1], part[:, bins]), part[:, bins + 1])
    return np.asarray(wide.mean(axis=1), dtype=np.float64)


def carried_from_hz(samples: npt.NDArray[np.float32]) -> float:
    """Lowest frequency that this recording carries: what lies below is ``CARRIED_DB`` weaker than its strongest half octave.

    Small microphones and telephone lines drop the bass; a low note is then heard by its overtones alone.
    """
    if len(samples) < TUNING_WINDOW:
        return 0.0
    frames = np.lib.stride_tricks.sliding_window_view(samples, TUNING_WINDOW)[:: 2 * TUNING_HOP]
    power = np.square(np.abs(rfft(frames * np.hanning(TUNING_WINDOW).astype(np.float32), axis=1)))
    usual = np.percentile(power, 80, axis=0)
    edges = 40.0 * 2 ** (np.arange(15) / 2)
    bins = np.round(edges * TUNING_WINDOW / RATE_HZ).astype(int)
    levels = 10 * np.log10(np.array([usual[a : b + 1].max() for a, b in itertools.pairwise(bins.tolist())]) + 1e-12)
    carried = np.flatnonzero(levels > levels.max() + CARRIED_DB)
    return float(edges[carried[0]])


#: A note's partials are looked for so far from where they should be, from so long after its onset, above a frequency and a level.
TUNING_REACH_CENTS, SETTLED_S, TUNING_FROM_HZ, TUNING_FAINT, FEWEST_PARTIALS = 45.0, 0.04, 240.0, 0.03, 8


def tuning_of(samples: npt.NDArray[np.float32]) -> tuple[float, float]:
    """Offset from A4 = 440 in cents (-50..50) of a many-voiced take, and how concentrated the evidence is (0..1).

    The circular mean of the spectral peaks' deviations from the semitone grid, weighted by magnitude; peaks by parabolic
    interpolation of the logarithm.
    """
    if len(samples) < TUNING_WINDOW:
        return 0.0, 0.0
    frames = np.lib.stride_tricks.sliding_window_view(samples, TUNING_WINDOW)[::TUNING_HOP]
    low, high = int(TUNING_LOW_HZ * TUNING_WINDOW / RATE_HZ), int(TUNING_HIGH_HZ * TUNING_WINDOW / RATE_HZ)
    window = np.hanning(TUNING_WINDOW).astype(np.float32)
    total = 0.0 + 0.0j
    weight = 0.0
    for frame in frames:
        magnitude = np.abs(rfft(frame * window))[: high + 2] + 1e-9
        middle = magnitude[low:high]
        peaks = low + np.flatnonzero((middle > magnitude[low - 1 : high - 1]) & (middle >= magnitude[low + 1 : high + 1]))
        peaks = peaks[magnitude[peaks] > 0.05 * magnitude.max()]
        if len(peaks) == 0:
            continue
        left, centre, right = (np.log(magnitude[peaks + d]) for d in (-1, 0, 1))
        offset = 0.5 * (left - right) / np.minimum(left - 2 * centre + right, -1e-6)
        midi = hz_to_midi((peaks + np.clip(offset, -0.5, 0.5)) * (RATE_HZ / TUNING_WINDOW))
        strength = np.sqrt(magnitude[peaks])
        total += complex((strength * np.exp(2j * np.pi * midi)).sum())
        weight += float(strength.sum())
    if weight <= 0:
        return 0.0, 0.0
    return float(np.angle(total) / (2 * np.pi) * 100.0), float(abs(total) / weight)


def tuning_of_notes(samples: npt.NDArray[np.float32], notes: Iterable[tuple[int, float]], guess_cents: float) -> float | None:
    """Offset from A4 = 440 in cents, by the notes themselves: the median deviation of their octave partials.

    Other partials are left out: a fifth partial lies 14 cents below the key that it is nearest to. None with too few to measure.

    Args:
        notes: (MIDI number, onset in seconds) of what was surely heard.
        guess_cents: near which the offset lies.
    """
    window = np.hanning(TUNING_WINDOW).astype(np.float32)
    found = []
    for midi, onset_s in notes:
        begin = int((onset_s + SETTLED_S) * RATE_HZ)
        frame = samples[begin : begin + TUNING_WINDOW]
        if len(frame) < TUNING_WINDOW:
            continue
        magnitude = np.abs(rfft(frame * window)) + 1e-9
        for octave in range(3):
            due = float(midi_to_hz(midi + guess_cents / 100)) * 2**octave * TUNING_WINDOW / RATE_HZ
            reach = due * (2 ** (TUNING_REACH_CENTS / 1200) - 1)
            first, last = int(due - reach), int(due + reach) + 2
            if due * RATE_HZ / TUNING_WINDOW < TUNING_FROM_HZ or last >= len(magnitude) - 1:
                continue
            peak = first + int(np.argmax(magnitude[first:last]))
            left, centre, right = np.log(magnitude[peak - 1 : peak + 2])
            if centre < max(left, right, np.log(TUNING_FAINT * magnitude.max())):
                continue
            away = 1200 * float(np.log2((peak + vertex(left, centre, right)) / due))
            if abs(away) < TUNING_REACH_CENTS:
                found.append(guess_cents + away)
    return float(np.median(found)) if len(found) >= FEWEST_PARTIALS else None
