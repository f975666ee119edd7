"""A seekable copy for browsers (AAC in MP4, index first), with its delay against the decoded original measured.

Recorders write files whose length and index are missing (a WebM from a browser), so players cannot seek in them. The copy
can be sought, and ``delay_s`` says by how much its sound lies behind the decoded original: encoders pad their beginning.
"""

from __future__ import annotations

import io
import os
from typing import IO, Any

import av
import numpy as np

from didactor.core.sound.recording import RATE_HZ

#: AAC, mono: enough that what a listener hears is the playing, not the codec.
COPY_BITS_PER_S = 112_000
#: Peaks of the waveform strip, per second.
PEAKS_PER_S = 20
_PROBE_S = 6.0


def encode_playback(samples: np.ndarray) -> tuple[dict[str, Any], bytes]:
    """Encode the copy of decoded mono samples at the working rate.

    Returns:
        ``delay_s`` (copy minus original, seconds), ``duration_s``, ``peaks`` (0..1, ``PEAKS_PER_S`` a second), and the MP4's bytes.
    """
    copy = np.ascontiguousarray(samples, dtype=np.float32)
    # The index is moved to the front by name; a file in memory has one even where no folder may be written.
    with os.fdopen(os.memfd_create("copy"), "w+b") as target:
        name = f"/proc/self/fd/{target.fileno()}"
        with av.open(name, mode="w", format="mp4", options={"movflags": "faststart"}) as container:
            # The fast coder takes a third of the time; at this rate nobody hears the difference.
            stream = container.add_stream("aac", rate=RATE_HZ, layout="mono", options={"aac_coder": "fast"})
            stream.bit_rate = COPY_BITS_PER_S
            for start in range(0, len(copy), 1024):
                frame = av.AudioFrame.from_ndarray(copy[None, start : start + 1024], format="fltp", layout="mono")
                frame.sample_rate, frame.pts = RATE_HZ, start
                container.mux(stream.encode(frame))
            container.mux(stream.encode(None))
        target.seek(0)
        body = target.read()
    return {"delay_s": _delay_s(samples, body), "duration_s": len(samples) / RATE_HZ, "peaks": _peaks(samples)}, body


def _delay_s(original: np.ndarray, body: bytes) -> float:
    """Lag of the copy in the first seconds that are not silent."""
    loud = np.flatnonzero(np.abs(original) > 0.1 * float(np.abs(original).max(initial=0.0)))
    if len(loud) == 0:
        return 0.0
    length = int(_PROBE_S * RATE_HZ)
    start = max(0, int(loud[0]) - RATE_HZ // 4)
    copy = _beginning(body, start + length)
    a, b = original[start : start + length], copy[start : start + length]
    count = min(len(a), len(b))
    if count < 256:
        return 0.0
    # By numpy alone: importing a signal library would take longer than everything else here.
    size = 2 * count
    correlation = np.fft.irfft(np.fft.rfft(b[:count], size) * np.conj(np.fft.rfft(a[:count], size)), size)
    lag = int(np.argmax(correlation))
    lag = lag - size if lag > count else lag
    return lag / RATE_HZ if abs(lag) < 0.2 * RATE_HZ else 0.0


def _beginning(body: bytes, count: int) -> np.ndarray:
    """The first ``count`` samples of the copy, decoded as a player does."""
    pieces, found = [], 0
    with av.open(io.BytesIO(body)) as container:
        for frame in container.decode(audio=0):
            pieces.append(frame.to_ndarray()[0])
            found += len(pieces[-1])
            if found >= count:
                break
    return np.concatenate(pieces)[:count] if pieces else np.zeros(0, dtype=np.float32)


def read_stretch(source: IO[bytes], start_s: float, end_s: float, delay_s: float) -> np.ndarray:
    """A stretch of a copy that ``encode_playback`` made, in the original's time: mono float32 at ``RATE_HZ``.

    Before the beginning and after the end there is silence.
    """
    first, count = round((start_s + delay_s) * RATE_HZ), round((end_s - start_s) * RATE_HZ)
    result = np.zeros(count, dtype=np.float32)
    with av.open(source) as container:
        stream = container.streams.audio[0]
        if stream.time_base is not None and first > RATE_HZ:
            container.seek(int((first / RATE_HZ - 0.2) / stream.time_base), stream=stream)
        for frame in container.decode(stream):
            if frame.pts is None or frame.time_base is None:
                continue
            at = round(float(frame.pts * frame.time_base) * RATE_HZ) - first
            if at >= count:
                break
            piece = frame.to_ndarray()[0]
            begin, end = max(0, at), min(count, at + len(piece))
            if end > begin:
                result[begin:end] = piece[begin - at : end - at]
    return result


def _peaks(samples: np.ndarray) -> list[float]:
    hop = RATE_HZ // PEAKS_PER_S
    count = len(samples) // hop
    if count == 0:
        return []
    peaks = np.abs(samples[: count * hop].reshape(count, hop)).max(axis=1)
    return [round(float(p), 3) for p in peaks / max(float(peaks.max()), 1e-6)]
