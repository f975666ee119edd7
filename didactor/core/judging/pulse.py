"""Tempo map, hesitations, drift and placement from matched onsets.

The map is a local linear regression of onset time on score position (LOESS; Cleveland 1979) with bisquare weights, so that
one late note does not bend it. Before it is fitted, time that does not belong to the pulse (hesitations, restarts) is
taken out; a single late note is not a hesitation: what follows a hesitation is late as well.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.judging.bends import displacements

#: A hesitation is longer than both: half a metrical beat, and this many seconds.
HESITATION_S, HESITATION_BEAT_SHARE = 0.35, 0.5
#: And stretches its interval by this factor, so that a slow stretch over a long note is not taken for one.
HESITATION_STRETCH = 1.22
#: So much slower a phrase may become at its end and still be one phrase; what is longer is a stop, also twice in succession.
BROADENS_AT_MOST = 1.7
MAP_HALF_WIDTH_QUARTERS = 5.0
MAP_NEIGHBOURS = 9
MIN_MATCHES = 4


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Pulse:
    """Arrays over the matched onsets (ascending score position).

    ``residual_s`` is onset minus map (early < 0); ``displaced_s`` the same against the player's bending time (``bends``), in which a
    phrase that broadens is late nowhere, ``unsure_s`` how unsure that is, and ``scatter_s`` what the take leaves to chance; ``slope``
    the map's seconds per quarter there; ``pause_s`` the time taken out before each onset; ``hesitation`` marks those that are hesitations
    rather than joints of a restart or jump.
    """

    quarters: FloatArray
    times: FloatArray
    residual_s: FloatArray
    displaced_s: FloatArray
    unsure_s: FloatArray
    scatter_s: float
    slope: FloatArray
    pause_s: FloatArray
    hesitation: np.ndarray

    def seconds_between(self) -> float:
        """Time taken over the whole matched span, by the map."""
        adjusted = self.times - np.cumsum(self.pause_s) - self.residual_s
        return float(adjusted[-1] - adjusted[0])


def read_pulse(quarters: FloatArray, times: FloatArray, joints: np.ndarray, beat_quarters: FloatArray, guess: float) -> Pulse | None:
    """Fit the pulse of one take.

    Args:
        quarters: score positions of matched onsets, shape (n,), strictly ascending.
        times: their times in seconds, shape (n,).
        joints: bool, shape (n,): the playing was resumed here (after a restart, jump or skip); the time before it is no pulse.
        beat_quarters: the metrical beat in force at each onset, in quarters.
        guess: seconds per quarter to begin with.

    Returns:
        The pulse, or None for fewer than ``MIN_MATCHES`` onsets.
    """
    count = len(quarters)
    if count < MIN_MATCHES:
        return None
    step_q, step_t = np.diff(quarters), np.diff(times)
    local = _local_slopes(step_q, step_t, joints[1:], guess)
    pause = np.zeros(count)
    hesitation = np.zeros(count, dtype=bool)
    for k in range(1, count):
        extra = step_t[k - 1] - local[k - 1] * step_q[k - 1]
        if joints[k]:
            pause[k] = extra
            continue
        threshold = max(HESITATION_S, HESITATION_BEAT_SHARE * beat_quarters[k] * local[k - 1])
        usual = local[k - 1] * _broadening(step_q, step_t, joints, k, local[k - 1])
        if step_t[k - 1] - usual * step_q[k - 1] > threshold and step_t[k - 1] > HESITATION_STRETCH * usual * step_q[k - 1]:
            caught_up = k < count - 1 and not joints[k + 1] and step_t[k] - local[k] * step_q[k] < -0.5 * extra
            if not caught_up:
                pause[k], hesitation[k] = extra, True
    adjusted = times - np.cumsum(pause)
    fitted, slope = _smooth(quarters, adjusted)
    displaced = displacements(quarters, adjusted, float(np.median(slope)))
    return Pulse(
        quarters=quarters,
        times=times,
        residual_s=adjusted - fitted,
        displaced_s=displaced.away_s,
        unsure_s=displaced.unsure_s,
        scatter_s=displaced.chance_s,
        slope=slope,
        pause_s=pause,
        hesitation=hesitation,
    )


def _broadening(step_q: FloatArray, step_t: FloatArray, joints: np.ndarray, k: int, local: float) -> float:
    """How much slower than the music around the interval beside this one is, too: who broadens over a bar does not hesitate four times."""
    found = 1.0
    for beside in (k - 2, k):
        if 0 <= beside < len(step_q) and not joints[beside + 1] and step_q[beside] > 0.2:
            found = max(found, float(step_t[beside] / (local * step_q[beside])))
    return min(found, BROADENS_AT_MOST)


def _local_slopes(step_q: FloatArray, step_t: FloatArray, joint: np.ndarray, guess: float) -> FloatArray:
    """Median seconds per quarter of the intervals around each interval, weighted by their length; joints left out."""
    count = len(step_q)
    ratio = step_t / np.maximum(step_q, 1e-6)
    usable = ~joint & (step_q > 1e-6)
    overall = _weighted_median(ratio[usable], step_q[usable]) if usable.any() else guess
    result = np.full(count, overall)
    for k in range(count):
        near = np.arange(max(0, k - 6), min(count, k + 7))
        near = near[usable[near] & (near != k)]
        if len(near) >= 4:
            result[k] = np.clip(_weighted_median(ratio[near], step_q[near]), 0.6 * overall, 1.7 * overall)
    return result


def _weighted_median(values: FloatArray, weights: FloatArray) -> float:
    order = np.argsort(values)
    cumulative = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(cumulative, 0.5 * cumulative[-1])])


def _smooth(x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Robust local linear regression. Returns the fit and its slope at each ``x``."""
    count = len(x)
    robust = np.ones(count)
    fit, slope = np.zeros(count), np.zeros(count)
    neighbours = min(count, MAP_NEIGHBOURS)
    distance = np.abs(x[:, None] - x[None, :])
    width = np.maximum(MAP_HALF_WIDTH_QUARTERS, np.sort(distance, axis=1)[:, neighbours - 1]) * 1.001
    kernel = np.clip(1 - (distance / width[:, None]) ** 3, 0, 1) ** 3
    for _ in range(4):
        weights = kernel * robust[None, :] + 1e-9
        total = weights.sum(axis=1)
        mean_x, mean_y = (weights @ x) / total, (weights @ y) / total
        dx = x[None, :] - mean_x[:, None]
        variance = (weights * dx**2).sum(axis=1)
        slope = (weights * dx * (y[None, :] - mean_y[:, None])).sum(axis=1) / np.maximum(variance, 1e-9)
        fit = mean_y + slope * (x - mean_x)
        residual = y - fit
        scale = 6 * max(float(np.median(np.abs(residual))), 0.004)
        robust = np.clip(1 - (residual / scale) ** 2, 0, 1) ** 2
    return fit, slope


def drift_percent_per_bar(pulse: Pulse, bar_quarters: float) -> tuple[float, float]:
    """Change of tempo per bar, in per cent (rushing > 0), and a confidence 0..1 from how well a steady drift explains it.

    A straight line through the logarithm of the map's slope; the confidence is its coefficient of determination.
    """
    x = pulse.quarters / max(bar_quarters, 0.25)
    y = -np.log(np.maximum(pulse.slope, 1e-3))
    if x[-1] - x[0] < 3.0:
        return 0.0, 0.0
    slope, offset = np.polyfit(x, y, 1)
    unexplained = float(np.square(y - slope * x - offset).sum())
    total = float(np.square(y - y.mean()).sum())
    return float((np.exp(slope) - 1) * 100), float(1 - unexplained / total) if total > 1e-9 else 0.0
