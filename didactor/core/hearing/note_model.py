"""Many-voiced evidence by a small neural network (Bittner et al. 2022, the published note model of Basic Pitch).

The network hears 2 s at a time and gives, per frame of 11.6 ms and per key of the piano, the probability that a note begins and
that it sounds. Its weights are read from the installed package; we run them ourselves, because the package's own hop of windows
is no whole number of frames, which makes its times drift. The network expects A4 near 440 Hz: a take's tuning is cancelled by
resampling first.
"""

from __future__ import annotations

import importlib.util
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import soxr

from didactor.core.sound.recording import RATE_HZ

#: What the network takes and gives: its rate, the samples from frame to frame and of a window.
MODEL_RATE_HZ = 22_050
HOP = 256
HOP_S = HOP / MODEL_RATE_HZ
WINDOW = 43_844
#: Frames of each window that are used, after as many at its edges are dropped.
EDGE, USED = 15, 141
LOWEST_MIDI, KEYS = 21, 88
#: Windows handed over at once: more only costs memory.
BATCH = 4

Grid = npt.NDArray[np.float32]


class Posteriors:
    """``onset`` and ``sounding``: shape (frames, 88), 0..1; frame k is at ``k * hop_s`` seconds of the recording.

    The network runs only over what is asked for: ``ensure`` before reading a stretch, or ``ensure_all``.
    """

    def __init__(self, samples: npt.NDArray[np.float32], tuning_cents: float = 0.0) -> None:
        """Mono samples at ``RATE_HZ``; ``tuning_cents`` is the take's offset from A4 = 440 Hz."""
        stretch = 2 ** (tuning_cents / 1200)
        # A sharp take read as if recorded at a higher rate sounds lower.
        sound = soxr.resample(samples, RATE_HZ, MODEL_RATE_HZ * stretch, quality="HQ")
        frames = len(sound) // HOP + 1
        count = max(1, -(-frames // USED))
        self._padded = np.zeros(EDGE * HOP + (count - 1) * USED * HOP + WINDOW, dtype=np.float32)
        self._padded[EDGE * HOP : EDGE * HOP + len(sound)] = sound[: len(self._padded) - EDGE * HOP]
        self._heard = np.zeros(count, dtype=bool)
        self._onset, self._sounding = np.zeros((count * USED, KEYS), np.float32), np.zeros((count * USED, KEYS), np.float32)
        self.hop_s = HOP_S / stretch
        self.onset, self.sounding = self._onset[:frames], self._sounding[:frames]

    def frame(self, time_s: float) -> int:
        return max(0, min(round(time_s / self.hop_s), len(self.onset) - 1))

    def ensure(self, first_s: float, last_s: float) -> None:
        """Hear the stretch between two times, if it has not been heard yet."""
        self._run(range(self.frame(first_s) // USED, self.frame(last_s) // USED + 1))

    def ensure_all(self) -> None:
        self._run(range(len(self._heard)))

    def _run(self, windows: range) -> None:
        wanted = [w for w in windows if not self._heard[w]]
        session = _session()
        name = session.get_inputs()[0].name
        for start in range(0, len(wanted), BATCH):
            rows = wanted[start : start + BATCH]
            sound = np.stack([self._padded[r * USED * HOP : r * USED * HOP + WINDOW] for r in rows])[..., None]
            sounding, onset = session.run(["StatefulPartitionedCall:1", "StatefulPartitionedCall:2"], {name: sound})
            for k, row in enumerate(rows):
                self._sounding[row * USED : (row + 1) * USED] = sounding[k, EDGE : EDGE + USED]
                self._onset[row * USED : (row + 1) * USED] = onset[k, EDGE : EDGE + USED]
                self._heard[row] = True


@cache
def _session() -> Any:
    import onnxruntime

    spec = importlib.util.find_spec("basic_pitch")
    if spec is None or not spec.submodule_search_locations:
        raise ImportError("the note model is not installed: run bin/start or bin/test once")
    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = options.inter_op_num_threads = 1
    path = Path(spec.submodule_search_locations[0]) / "saved_models" / "icassp_2022" / "nmp.onnx"
    return onnxruntime.InferenceSession(str(path), options, providers=["CPUExecutionProvider"])


def note_posteriors(samples: npt.NDArray[np.float32], tuning_cents: float = 0.0) -> Posteriors:
    """The whole of mono samples at ``RATE_HZ``, heard."""
    posteriors = Posteriors(samples, tuning_cents)
    posteriors.ensure_all()
    return posteriors
