"""Rooms: exponentially decaying noise (Polack's model of late reverberation) behind a few early reflections."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.signal import fftconvolve

SYNTH_RATE_HZ = 44_100
Samples = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True, kw_only=True)
class Room:
    """Reverberation time to -60 dB (s), share of reverberant sound (0..1) and noise level (dBFS; None for none)."""

    rt60_s: float = 0.0
    wet: float = 0.0
    noise_dbfs: float | None = -70.0


ROOMS = {
    "dry": Room(),
    "kitchen": Room(rt60_s=0.6, wet=0.25, noise_dbfs=-60.0),
    "bedroom": Room(rt60_s=0.35, wet=0.18, noise_dbfs=-62.0),
    "classroom": Room(rt60_s=0.8, wet=0.22, noise_dbfs=-58.0),
    "hall": Room(rt60_s=1.3, wet=0.30, noise_dbfs=-60.0),
}


def add_room(dry: Samples, room: Room, rng: np.random.Generator) -> Samples:
    """Put a dry sound into a room with its noise."""
    sound = dry.astype(np.float64)
    if room.rt60_s > 0:
        length = int(room.rt60_s * SYNTH_RATE_HZ)
        decay = np.exp(-6.9 * np.arange(length) / length)
        tail = rng.normal(0, 1, length) * decay
        for delay_s in (0.007, 0.013, 0.021, 0.034):
            tail[int(delay_s * SYNTH_RATE_HZ)] += 4.0 * float(np.exp(-delay_s / 0.03)) * rng.choice([-1, 1])
        tail /= np.sqrt(np.square(tail).sum())
        wet = fftconvolve(sound, tail)[: len(sound)]
        sound = (1 - room.wet) * sound + room.wet * wet
    sound = sound / max(float(np.abs(sound).max()), 1e-6) * 0.7
    if room.noise_dbfs is not None:
        sound = sound + rng.normal(0, 10 ** (room.noise_dbfs / 20), len(sound))
    return sound.astype(np.float32)
