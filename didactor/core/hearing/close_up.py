"""The sound around one note, seen closely: energy at every quarter tone over time, for the evidence behind a judgement."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from didactor.core.arrays import FloatArray
from didactor.core.sound.recording import RATE_HZ
from didactor.core.units import midi_to_hz

#: What a drawing of some 300 by 100 points can show of two seconds and an octave.
HOP_S = 0.008
ROWS_PER_SEMITONE = 2
#: Periods of each frequency that a window holds (so that quarter tones part), and its longest.
PERIODS, LONGEST_S = 26.0, 0.16
FLOOR_DB = -36.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CloseUp:
    """``levels_db``: shape (rows, columns), 0 the loudest, not below ``FLOOR_DB``; row 0 is the lowest pitch."""

    start_s: float
    end_s: float
    low_midi: float
    levels_db: FloatArray

    @property
    def high_midi(self) -> float:
        return self.low_midi + len(self.levels_db) / ROWS_PER_SEMITONE


def close_up(samples: npt.NDArray[np.float32], start_s: float, low_midi: int, high_midi: int) -> CloseUp:
    """Analyse a stretch of sound by constant-Q kernels (Brown 1991).

    Args:
        samples: mono at ``RATE_HZ``, beginning at ``start_s`` of the recording.
        low_midi, high_midi: keys shown, the upper one not included.
    """
    pitches = np.arange(low_midi - 0.25, high_midi - 0.25, 1 / ROWS_PER_SEMITONE) + 0.25 / ROWS_PER_SEMITONE
    centres = np.arange(0, len(samples), int(HOP_S * RATE_HZ))
    reach = int(LONGEST_S * RATE_HZ)
    padded = np.pad(np.asarray(samples, dtype=np.float64), reach)
    rows = []
    for pitch in pitches.tolist():
        hz = midi_to_hz(pitch)
        length = int(min(LONGEST_S, PERIODS / hz) * RATE_HZ)
        window = np.hanning(length)
        kernel = window / window.sum() * np.exp(-2j * np.pi * hz / RATE_HZ * np.arange(length))
        frames = np.lib.stride_tricks.sliding_window_view(padded, length)[centres + reach - length // 2]
        rows.append(np.abs(frames @ kernel))
    energy = np.array(rows)
    levels = 20 * np.log10(energy / max(float(energy.max(initial=0.0)), 1e-9) + 1e-9)
    return CloseUp(
        start_s=start_s,
        end_s=start_s + len(samples) / RATE_HZ,
        low_midi=low_midi - 0.25,
        levels_db=np.maximum(levels, FLOOR_DB),
    )
