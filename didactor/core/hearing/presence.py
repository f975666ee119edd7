"""How probable is it that a key was struck at a time? Fitted models over what the network and the spectrum say there.

They are fitted by ``bench/fit_presence`` on the fit set of the benchmark, to notes that were played and to keys nearby that were not:
for many voices boosted decision trees (``presence.json``; Friedman 2001), which keep their judgement on instruments that they were not
fitted to better than a logistic model does (decision 24), logistic models where examples are few. The odds are those of the evidence
alone; the caller adds what it expected before listening.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from didactor.core.arrays import FloatArray
from didactor.core.hearing.note_model import KEYS, LOWEST_MIDI, Posteriors
from didactor.core.hearing.spectrum import Spectrum, partial_bins, rise_of

#: Where around a moment an onset is looked for (chords spread by up to 60 ms), where the key should sound then, and where it should not
#: have before. The models are fitted to these: changing them means fitting anew.
BEFORE_S, AFTER_S = 0.07, 0.06
SOUNDS_FROM_S, SOUNDS_AT_MOST_S = 0.02, 0.25
PAST_FROM_S, PAST_TO_S = 0.14, 0.05

FEATURES = (
    "onset",
    "sounding",
    "sounding_before",
    "gain",
    "semitone_onset",
    "tone_onset",
    "octave_below_onset",
    "octave_above_onset",
    "semitone_sounding",
    "octave_below_sounding",
    "rise",
    "distinct_rise",
    "level",
    "overtone",
    "company",
    "low",
    "high",
    "take_onset",
    "take_sounding",
)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Evidence:
    """Where the evidence is looked up. ``typical_onset`` and ``typical_sounding`` are the take's own medians (0..1);
    below ``carried_from_hz`` the recording carries nothing.
    """

    posteriors: Posteriors
    spectrum: Spectrum
    tuning_cents: float
    typical_onset: float
    typical_sounding: float
    carried_from_hz: float = 0.0


def logit(value: float) -> float:
    clipped = min(0.999, max(0.001, value))
    return float(np.log(clipped / (1 - clipped)))


def sounding_between(posteriors: Posteriors, key: int, first_s: float, last_s: float) -> float:
    """Mean posterior that a key sounds; 0 outside the keyboard."""
    if not 0 <= key < KEYS:
        return 0.0
    first, last = posteriors.frame(first_s), posteriors.frame(last_s)
    return float(posteriors.sounding[first : max(first + 1, last), key].mean())


def onset_near(posteriors: Posteriors, key: int, time_s: float) -> float:
    """Highest onset posterior of a key around a time."""
    if not 0 <= key < KEYS:
        return 0.0
    first, last = posteriors.frame(time_s - BEFORE_S), posteriors.frame(time_s + AFTER_S)
    return float(posteriors.onset[first : last + 1, key].max())


def features_of(evidence: Evidence, midi: int, time_s: float, duration_s: float, company: frozenset[int]) -> FloatArray:
    """The model's view of one key at one time.

    Args:
        duration_s: how long it should sound.
        company: other keys expected to be struck at the same time.
    """
    posteriors, spectrum, key = evidence.posteriors, evidence.spectrum, midi - LOWEST_MIDI
    until = time_s + SOUNDS_FROM_S + min(SOUNDS_AT_MOST_S, max(0.05, 0.7 * duration_s))
    others = {m - LOWEST_MIDI for m in company}

    def onset(interval: int) -> float:
        return 0.0 if key + interval in others else onset_near(posteriors, key + interval, time_s)

    def sounding(interval: int) -> float:
        if key + interval in others:
            return 0.0
        return sounding_between(posteriors, key + interval, time_s + SOUNDS_FROM_S, until)

    before = sounding_between(posteriors, key, time_s - PAST_FROM_S, time_s - PAST_TO_S)
    after = sounding(0)
    pitch = midi + evidence.tuning_cents / 100
    first, last = spectrum.frame(time_s - 0.04), spectrum.frame(time_s + 0.05)
    own = partial_bins(pitch)
    distinct = partial_bins(pitch, tuple(m + evidence.tuning_cents / 100 for m in company)) if company else own
    settled = spectrum.level[spectrum.frame(time_s + 0.05)]
    return np.array(
        [
            logit(onset(0)),
            logit(after),
            logit(before),
            after - before,
            max(onset(-1), onset(1)),
            max(onset(-2), onset(2)),
            onset(-12),
            onset(12),
            max(sounding(-1), sounding(1)),
            sounding(-12),
            float(rise_of(spectrum, own, first, last).max()),
            float(rise_of(spectrum, distinct, first, last).max()) if len(distinct) else -0.1,
            float(np.mean(settled[own])) if len(own) else 0.0,
            1.0 if any(midi - m in (12, 19, 24) for m in company) else 0.0,
            min(4, len(company)),
            max(0.0, (52 - midi) / 12),
            max(0.0, (midi - 76) / 12),
            logit(evidence.typical_onset),
            logit(evidence.typical_sounding),
        ]
    )


def expand(features: FloatArray) -> FloatArray:
    """The features, their squares, and the products of the first four with all others; shape (..., n)."""
    squares = np.square(features)
    products = [features[..., i : i + 1] * features[..., i + 1 :] for i in range(4)]
    return np.concatenate([features, squares, *products], axis=-1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Model:
    """A fitted logistic model: where its weights are kept, the names of what it looks at, and whether at squares and products too."""

    path: Path
    names: tuple[str, ...]
    wide: bool = True

    def expanded(self, rows: FloatArray) -> FloatArray:
        return expand(rows) if self.wide else rows

    def log_odds(self, rows: FloatArray) -> FloatArray:
        """Log odds of the evidence for rows of features, shape (n, len(names)); fitted to as many played as silent keys."""
        mean, scale, weights, bias = _weights(self)
        return np.asarray((self.expanded(rows) - mean) / scale @ weights + bias)


@dataclass(frozen=True, slots=True, kw_only=True)
class Forest:
    """Fitted decision trees, whose leaves add up to log odds: where they are kept, and the names of what they look at."""

    path: Path
    names: tuple[str, ...]

    def log_odds(self, rows: FloatArray) -> FloatArray:
        """As ``Model.log_odds``. A row walks down all trees at once."""
        trees = _trees(self)
        every = np.arange(trees.feature.shape[0])[None, :]
        node = np.zeros((len(rows), trees.feature.shape[0]), dtype=np.int64)
        for _ in range(trees.depth):
            looked_at = np.take_along_axis(rows, trees.feature[every, node], axis=1)
            node = np.where(looked_at <= trees.threshold[every, node], trees.left[every, node], trees.right[every, node])
        return np.asarray(trees.value[every, node].sum(axis=1) + trees.bias)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Trees:
    """Nodes of all trees, shape (trees, nodes); a leaf's children are itself."""

    feature: npt.NDArray[np.int64]
    threshold: FloatArray
    left: npt.NDArray[np.int64]
    right: npt.NDArray[np.int64]
    value: FloatArray
    bias: float
    depth: int


@cache
def _trees(forest: Forest) -> _Trees:
    data = _fitted(forest.path, forest.names)
    return _Trees(
        feature=np.array(data["feature"]),
        threshold=np.array(data["threshold"]),
        left=np.array(data["left"]),
        right=np.array(data["right"]),
        value=np.array(data["value"]),
        bias=float(data["bias"]),
        depth=int(data["depth"]),
    )


@cache
def _weights(model: Model) -> tuple[FloatArray, FloatArray, FloatArray, float]:
    data = _fitted(model.path, model.names)
    return np.array(data["mean"]), np.array(data["scale"]), np.array(data["weights"]), float(data["bias"])


def _fitted(path: Path, names: tuple[str, ...]) -> dict[str, Any]:
    data: dict[str, Any] = json.loads(path.read_text())
    if tuple(data["features"]) != names:
        raise ValueError(f"{path.name} was fitted to other features: run bench/fit_presence")
    return data


MODEL = Forest(path=Path(__file__).with_name("presence.json"), names=FEATURES)
