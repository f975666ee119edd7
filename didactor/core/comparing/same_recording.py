"""Whether two takes of a passage are one recording: by their timing, which no codec, cut or change of level alters and nobody repeats.

A straight line is laid through the onsets of the moments that both have (another start, a slightly other speed); what is left over is
the ear's own error for one recording, and a player's scatter for two.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from didactor.core.arrays import FloatArray

#: A moment of the score: printed bar, pass, and where in the bar it lies, in quarters.
Moment = tuple[str, int, float]

#: Two takes are one recording up to this robust spread around the line, seconds, and up to this share of how freely the more even of the
#: two was played against the score. The same one through codecs, telephones and cuts stays near a tenth of it; two takes of one player,
#: who has the same habits every day, do not come below a third.
SAME_S, SAME_SHARE = 0.006, 0.25
#: So many common moments at least; and the speeds that are compared, as one against the other.
FEWEST, MOST_SPEED = 16, 0.03
#: Playing as even as this against the score itself is a machine's: it is the same every time.
EVEN_S = 0.002
#: Lines are tried through so many pairs of moments.
_LINES = 400


def same_recording(one: Mapping[Moment, float], other: Mapping[Moment, float], quarters: Mapping[Moment, float]) -> bool | None:
    """True for one recording, False for two; None where it cannot be told: too few common moments, or playing too even to be anybody's.

    Args:
        one: onset of each moment, seconds; ``other`` the same of the other take.
        quarters: where each moment lies in the passage as it is played.
    """
    common = sorted((m for m in one if m in other and m in quarters), key=lambda m: one[m])
    if len(common) < FEWEST:
        return None
    first, second = np.array([one[m] for m in common]), np.array([other[m] for m in common])
    written = np.array([quarters[m] for m in common])
    apart = _spread(first, second, within=MOST_SPEED)
    if apart > SAME_S:
        return False
    free = min(_spread(written, first), _spread(written, second))
    return None if free <= EVEN_S else apart <= SAME_SHARE * free


def _spread(x: FloatArray, y: FloatArray, within: float | None = None) -> float:
    """Robust spread of ``y`` around the best straight line over ``x`` (1.4826 times the median absolute residual); infinite where no line
    of a speed within ``within`` of one fits.
    """
    rng = np.random.default_rng(0)
    span = np.ptp(x)
    a, b = rng.integers(0, len(x), _LINES), rng.integers(0, len(x), _LINES)
    apart = np.abs(x[b] - x[a]) > 0.25 * span
    a, b = a[apart], b[apart]
    if len(a) == 0:
        return float("inf")
    slopes = (y[b] - y[a]) / (x[b] - x[a])
    if within is not None:
        slopes = slopes[np.abs(slopes - 1.0) <= within]
    if len(slopes) == 0:
        return float("inf")
    offsets = np.median(y[None, :] - slopes[:, None] * x[None, :], axis=1)
    residuals = np.abs(y[None, :] - slopes[:, None] * x[None, :] - offsets[:, None])
    return float(1.4826 * np.median(residuals, axis=1).min())
