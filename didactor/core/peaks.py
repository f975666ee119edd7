"""Where a peak lies between the points at which it was sampled."""

from __future__ import annotations

import numpy as np


def vertex(left: float, middle: float, right: float) -> float:
    """Place of the vertex of the parabola through three neighbours, from the middle one (-0.5..0.5); 0 where they hold no peak."""
    bend = left - 2 * middle + right
    return float(np.clip(0.5 * (left - right) / bend, -0.5, 0.5)) if bend < -1e-12 else 0.0
