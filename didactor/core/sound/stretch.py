"""Sound made slower or quicker at the same pitch, by the program rubberband (its finer engine: onsets stay within 2 ms of their place)."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy.io import wavfile

from didactor.core.errors import CoreError
from didactor.core.sound.wave import read_wave
from didactor.core.words import worded

LONGEST_RUN_S = 300


def stretched(samples: npt.NDArray[np.float32], rate_hz: int, ratio: float) -> npt.NDArray[np.float32]:
    """Mono sound that lasts ``ratio`` times as long.

    Raises:
        CoreError: the program is not installed (the words say how to get it).
    """
    if abs(ratio - 1.0) < 1e-3:
        return samples
    stretcher_missing()
    with tempfile.TemporaryDirectory() as folder:
        given, made = Path(folder) / "given.wav", Path(folder) / "made.wav"
        wavfile.write(given, rate_hz, np.round(np.clip(samples, -1, 1) * 32767).astype(np.int16))
        subprocess.run(
            ["rubberband", "--quiet", "--fine", "--time", f"{ratio:.6f}", str(given), str(made)],
            check=True,
            capture_output=True,
            timeout=LONGEST_RUN_S,
        )
        return read_wave(made.read_bytes())[1]


def stretcher_missing() -> None:
    """Raises ``CoreError`` where the program is not installed."""
    if shutil.which("rubberband") is None:
        raise CoreError(
            "sound.no_stretcher", worded("The program rubberband is not installed. Run bin/start or bin/test once; they install it.")
        )
