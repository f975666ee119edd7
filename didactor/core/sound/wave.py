"""WAV as programs write it to a pipe: 16-bit PCM whose header may lie about lengths, since they were not known yet."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt


def read_wave(body: bytes) -> tuple[int, npt.NDArray[np.float32]]:
    """Rate and mono samples of what a program of ours wrote. Not for files from outside."""
    rate_hz = int.from_bytes(body[24:28], "little")
    start = body.index(b"data") + 8
    samples = np.frombuffer(body[start : start + (len(body) - start) // 2 * 2], dtype="<i2").astype(np.float32) / np.float32(32767)
    return rate_hz, samples.astype(np.float32)
