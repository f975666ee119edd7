"""How loud a recording is as a listener hears it: integrated loudness (ITU-R BS.1770, EBU R 128), which leaves rests out of account."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

#: One block of the measure.
SHORTEST_S = 0.4


def loudness_lufs(samples: npt.NDArray[np.float32], rate_hz: int) -> float | None:
    """Integrated loudness, LUFS; None for what is too short or silent."""
    # Imported when needed: the command line starts quicker without it.
    from pyloudnorm import Meter

    if len(samples) < SHORTEST_S * rate_hz:
        return None
    measured = float(Meter(rate_hz).integrated_loudness(samples.astype(np.float64)))
    return measured if math.isfinite(measured) else None
