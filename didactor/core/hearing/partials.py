"""Which partials of a note can be told from those of the note before it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from didactor.core.sound.recording import RATE_HZ
from didactor.core.units import midi_to_hz


def distinct_partials_hz(pitch: float, before: float | None) -> npt.NDArray[np.float64]:
    """Up to five partials of a pitch that lie over half a semitone from every partial of the pitch before."""
    partials = midi_to_hz(pitch) * np.arange(1, 9)
    if before is not None:
        old = midi_to_hz(before) * np.arange(1, 17)
        partials = partials[np.abs(12 * np.log2(partials[:, None] / old[None, :])).min(axis=1) > 0.5]
    return np.asarray(partials[partials < 0.45 * RATE_HZ][:5])
