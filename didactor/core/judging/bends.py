"""Where each moment was due, by a player's time that may bend.

A player's time is a state: where in time the music is, and how long a quarter lasts; the second wanders (a Kalman filter over the matched
moments; the model is that of Cemgil et al. 2000). Every moment is predicted three times: from what came before, from what comes after
(the same filter backwards), and from both without itself. How early or late it is, is the smallest of the three distances where all
agree in their sign, and nothing otherwise: a phrase that broadens is late only against its past, a player who breathes and goes on only
against what comes after; a single late note is late against all.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from didactor.core.arrays import FloatArray

#: How far a quarter's length wanders, as a share of itself over a quarter: a steady player's, and a moving one's at most.
STEADY, MOVING = 0.05, 0.3
#: From this change of the beat on (log) the player is moving, and how much more the length may wander for it.
MOVES_FROM, FOLLOWS = 0.01, 5.0
#: What is left to chance in an onset, seconds.
CHANCE_S = 0.03
#: A moment further off than so many standard deviations says less about the pulse the further it is off.
DOUBTED_FROM = 2.5
#: What so many of a hundred moments stay within is left to chance: single late ones are rarer.
USUAL_PERCENTILE = 80.0
#: The first quarter's length is known this well, as a share.
BEGINS_WITHIN = 0.25


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Predicted:
    """Time and its variance, as predicted before each moment was looked at."""

    time_s: FloatArray
    variance: FloatArray


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Displacements:
    """How early (< 0) or late each moment is against the player's own bending time, how unsure its due time is (standard deviation: it is
    far from its neighbours, or with neighbours on one side only), and what is left to chance in the take; seconds.
    """

    away_s: FloatArray
    unsure_s: FloatArray
    chance_s: float


def displacements(quarters: FloatArray, times: FloatArray, seconds_per_quarter: float) -> Displacements:
    """Of all moments of a take; nothing is away with fewer than three.

    Args:
        quarters: score positions, strictly ascending, shape (n,).
        times: when they were played, pauses taken out, shape (n,).
        seconds_per_quarter: the take's usual.
    """
    if len(quarters) < 3:
        return Displacements(away_s=np.zeros(len(quarters)), unsure_s=np.full(len(quarters), np.inf), chance_s=0.0)
    wander = _wander(quarters, times, seconds_per_quarter)
    forward = _predict(quarters, times, wander, seconds_per_quarter)
    back = _predict(-quarters[::-1], -times[::-1], wander[::-1], seconds_per_quarter)
    backward = _Predicted(time_s=-back.time_s[::-1], variance=back.variance[::-1])
    # At the ends there is a past or a future only.
    forward.variance[0] = backward.variance[-1] = np.inf
    unsure = np.sqrt(1 / (1 / forward.variance + 1 / backward.variance))
    weight = np.square(unsure) / forward.variance
    between = weight * forward.time_s + (1 - weight) * backward.time_s
    away = times - np.stack([forward.time_s, backward.time_s, between])
    away[:, 0], away[:, -1] = away[1, 0], away[0, -1]
    agree = np.abs(np.sign(away).sum(axis=0)) == 3
    least = np.where(agree, np.sign(away[0]) * np.abs(away).min(axis=0), 0.0)
    return Displacements(away_s=least, unsure_s=unsure, chance_s=float(np.percentile(np.abs(least), USUAL_PERCENTILE)))


def _wander(quarters: FloatArray, times: FloatArray, usual: float) -> FloatArray:
    """How far the quarter's length may wander before each moment: more where the beat is seen to move."""
    count = len(quarters)
    period = np.full(count, usual)
    for k in range(count):
        # The median of the intervals around, each at least half a quarter long, so that chance in short notes says little.
        found = []
        for first in range(max(0, k - 3), min(count - 1, k + 3)):
            last = int(np.searchsorted(quarters, quarters[first] + 0.99))
            if first < last < count:
                found.append((times[last] - times[first]) / (quarters[last] - quarters[first]))
        if found:
            period[k] = float(np.median(found))
    change = np.abs(np.gradient(np.log(np.maximum(period, 1e-3))))
    return np.asarray(np.clip(STEADY + FOLLOWS * np.maximum(0.0, change - MOVES_FROM), STEADY, MOVING))


def _predict(quarters: FloatArray, times: FloatArray, wander: FloatArray, usual: float) -> _Predicted:
    count = len(quarters)
    predicted, variances = np.zeros(count), np.zeros(count)
    state = np.array([times[0], usual])
    spread = np.diag([CHANCE_S**2, (BEGINS_WITHIN * usual) ** 2])
    predicted[0], variances[0] = times[0], 1.0
    for k in range(1, count):
        step = quarters[k] - quarters[k - 1]
        move = np.array([[1.0, step], [0.0, 1.0]])
        noise = (wander[k] * usual) ** 2 * np.array([[step**3 / 3, step**2 / 2], [step**2 / 2, step]])
        state = move @ state
        spread = move @ spread @ move.T + noise
        predicted[k], variances[k] = state[0], spread[0, 0]
        away = times[k] - state[0]
        chance = CHANCE_S**2
        total = spread[0, 0] + chance
        doubt = abs(away) / np.sqrt(total) / DOUBTED_FROM
        if doubt > 1:
            total *= doubt**2
        gain = spread[:, 0] / total
        state = state + gain * away
        spread = spread - np.outer(gain, spread[0])
    return _Predicted(time_s=predicted, variance=variances)
