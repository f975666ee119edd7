"""A known backing track that can be heard in the room, taken out before anything is heard.

The recorder knows what it played and when. What arrived at the microphone is that sound through a loudspeaker and a room: in each
frequency band a sum of the track's latest frames with unknown weights (the convolutive transfer function; Talmon, Cohen & Gannot
2009). The weights are found by least squares, frames with much playing in them counting less, and the sum is subtracted.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, rfft

from didactor.core.arrays import FloatArray
from didactor.core.sound.recording import RATE_HZ

#: Samples (128 and 32 ms): long enough for partials to part, short enough for a room's early echoes to count as frames.
WINDOW, HOP = 4096, 1024
#: Above this loudspeakers carry little, and nothing is listened for. Bands are worked on so many at a time, to spare memory.
TOP_HZ, BANDS_AT_ONCE = 8000.0, 128
#: Frames of the track that one frame of the recording may hold: the room's reverberation.
FRAMES = 7
#: The track may come earlier or later than the recorder's clock says.
EARLIEST_S, LATEST_S = -0.15, 0.6
#: The correlation's highest value over its usual one (both whitened) that tells that the track is there.
PROMINENT = 9.0
#: Frames count by 1 / (residual + this share of its mean), so that playing does not bend the estimate.
ROUNDS, LEAST_RESIDUAL = 2, 0.1
#: Weights are held back by this share of the band's mean power: nothing is learned where the track is silent.
RIDGE = 1e-3


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Backing:
    """A track as it was sent to the loudspeaker: mono at ``RATE_HZ``; ``at_s`` is the time of its first sample in the recording.
    ``enters_s``: when in the track the passage's first bar begins, after count-off and introduction; None where nobody knows.
    """

    samples: npt.NDArray[np.float32]
    at_s: float = 0.0
    enters_s: float | None = None


def without_backing(samples: npt.NDArray[np.float32], backing: Backing) -> tuple[npt.NDArray[np.float32], float | None]:
    """The recording without the track, and how late the track came in it (seconds after ``at_s``).

    The very same samples and None where the track cannot be heard (headphones) or there is too little of it.
    """
    if min(len(samples), len(backing.samples)) < 2 * WINDOW:
        return samples, None
    late_s = _delay_s(samples, backing)
    if late_s is None:
        return samples, None
    begin = round((backing.at_s + late_s) * RATE_HZ) - HOP // 4  # a little early: what arrives first must not be missed
    track = np.zeros(len(samples), dtype=np.float32)
    first, last = max(0, begin), min(len(samples), begin + len(backing.samples))
    if last - first < 2 * WINDOW:
        return samples, None
    track[first:last] = backing.samples[first - begin : last - begin]
    heard, played = (_frames(x) for x in (samples, track))
    for first in range(0, int(TOP_HZ * WINDOW / RATE_HZ), BANDS_AT_ONCE):
        band = slice(first, first + BANDS_AT_ONCE)
        heard[band] -= _as_it_arrived(heard[band], played[band])
    # Loading it takes half a second, in every start of the ear: only who plays along waits for it.
    from scipy.signal import istft

    _, left = istft(heard, RATE_HZ, nperseg=WINDOW, noverlap=WINDOW - HOP)
    return np.asarray(left[: len(samples)], dtype=np.float32), late_s


def _frames(samples: npt.NDArray[np.float32]) -> npt.NDArray[np.complex64]:
    """Short-time spectrum, shape (bins, frames)."""
    from scipy.signal import stft

    return np.asarray(stft(samples, RATE_HZ, nperseg=WINDOW, noverlap=WINDOW - HOP)[2], dtype=np.complex64)


def _delay_s(samples: npt.NDArray[np.float32], backing: Backing) -> float | None:
    """By the correlation of both sounds, whitened so that one loud tone does not decide; None where nothing stands out."""
    size = 1 << (len(samples) + len(backing.samples)).bit_length()
    cross = rfft(samples, size) * np.conj(rfft(backing.samples, size))
    likeness = np.asarray(irfft(cross / np.sqrt(np.abs(cross) + 1e-9), size))
    lags = np.arange(round((backing.at_s + EARLIEST_S) * RATE_HZ), round((backing.at_s + LATEST_S) * RATE_HZ))
    values = np.abs(likeness[lags % size])
    best = int(np.argmax(values))
    if values[best] < PROMINENT * float(np.sqrt(np.square(values).mean())):
        return None
    return float(lags[best] / RATE_HZ - backing.at_s)


def _as_it_arrived(heard: npt.NDArray[np.complex64], played: npt.NDArray[np.complex64]) -> npt.NDArray[np.complex64]:
    """The track as the microphone got it, shape (bins, frames)."""
    bins, count = played.shape
    past = np.zeros((bins, FRAMES, count), dtype=np.complex64)
    for k in range(FRAMES):
        past[:, k, k:] = played[:, : count - k]
    weights = np.ones((bins, count), dtype=np.float32)
    arrived = np.zeros_like(heard)
    for _ in range(ROUNDS):
        weighted = np.conj(past) * weights[:, None, :]
        square = weighted @ past.transpose(0, 2, 1)
        power = np.trace(square, axis1=1, axis2=2).real / FRAMES
        square += (RIDGE * power + 1e-12)[:, None, None] * np.eye(FRAMES, dtype=np.complex64)
        gains = np.linalg.solve(square, weighted @ heard[:, :, None])
        arrived = np.asarray((gains.transpose(0, 2, 1) @ past)[:, 0])
        residual: FloatArray = np.square(np.abs(heard - arrived))
        weights = (1.0 / (residual + LEAST_RESIDUAL * residual.mean(axis=1, keepdims=True) + 1e-12)).astype(np.float32)
    return arrived
