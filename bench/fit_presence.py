"""Fits ``didactor/core/hearing/presence.json``: the odds that a key was struck, from the fit set of the benchmark.

    bench/fit_presence

For every written note of the many-voiced takes whose moment was found: the key itself (played or not, as the truth has it) and,
as examples of what was not played, keys around it. Logistic regression with a ridge, by scipy. Every fifth take is kept out and
tells how good the odds are.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import sys
from pathlib import Path

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import takes as of  # noqa: E402
from scipy.optimize import minimize  # noqa: E402

from didactor.core.hearing.many_voices import listen  # noqa: E402
from didactor.core.hearing.presence import FEATURES, WEIGHTS, expand  # noqa: E402

AROUND = (-12, -7, -4, -3, -2, -1, 1, 2, 3, 4, 5, 12)
RIDGE = 2e-3
NEAR_S = 0.12


def main() -> int:
    scenarios = of.scenarios(of.FIT, "many")
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        sets = pool.map(_rows, scenarios, chunksize=2)
    fit = [s for i, s in enumerate(sets) if i % 5]
    kept = [s for i, s in enumerate(sets) if i % 5 == 0]
    x, y = np.concatenate([s[0] for s in fit]), np.concatenate([s[1] for s in fit])
    weight = np.where(y, 0.5 / y.mean(), 0.5 / (1 - y.mean()))
    wide = expand(x)
    mean, scale = wide.mean(axis=0), wide.std(axis=0) + 1e-6
    scaled = (wide - mean) / scale

    def loss(parameters: np.ndarray) -> tuple[float, np.ndarray]:
        odds = scaled @ parameters[1:] + parameters[0]
        value = float((weight * np.logaddexp(0, np.where(y, -odds, odds))).mean() + RIDGE * np.square(parameters[1:]).sum())
        slope = weight * (1 / (1 + np.exp(-odds)) - y) / len(y)
        return value, np.concatenate([[slope.sum()], scaled.T @ slope + 2 * RIDGE * parameters[1:]])

    found = minimize(loss, np.zeros(scaled.shape[1] + 1), jac=True, method="L-BFGS-B", options={"maxiter": 500})
    data = {
        "features": list(FEATURES),
        "mean": [round(float(v), 6) for v in mean],
        "scale": [round(float(v), 6) for v in scale],
        "weights": [round(float(v), 6) for v in found.x[1:]],
        "bias": round(float(found.x[0]), 6),
    }
    WEIGHTS.write_text(json.dumps(data) + "\n")
    for name, part in (("fit", fit), ("kept out", kept)):
        x, y = np.concatenate([s[0] for s in part]), np.concatenate([s[1] for s in part])
        odds = (expand(x) - mean) / scale @ found.x[1:] + found.x[0]
        probability = 1 / (1 + np.exp(-odds))
        doubtful = 100 * ((probability > 0.05) & (probability < 0.95)).mean()
        struck, silent = 100 * (probability[y] > 0.5).mean(), 100 * (probability[~y] > 0.5).mean()
        print(f"{name}: {len(y)} keys, {100 * y.mean():.0f} % struck")
        print(f"  taken for struck: {struck:.2f} % of those, {silent:.2f} % of the others; doubtful: {doubtful:.1f} %")
    return 0


def _rows(scenario: of.Scenario) -> tuple[np.ndarray, np.ndarray]:
    made = of.take(scenario)
    heard = listen(made.samples, made.expectation, 60 / made.targets.tempo_qpm)
    if heard is None:
        return np.zeros((0, len(FEATURES))), np.zeros(0, dtype=bool)
    played = [(n["midi"], n["sounding_onset_s"], n["offset_s"]) for n in made.truth["notes"]]
    rng = np.random.default_rng(scenario.seed)
    rows, labels = [], []
    for _, index, time_s, company in heard.rows():
        written = made.expectation.notes[index].sounding_midi + heard.shift
        for midi in (written, *(written + int(d) for d in rng.choice(AROUND, 2, replace=False))):
            struck = any(m == midi and abs(t - time_s) < NEAR_S for m, t, _ in played)
            sounds = any(m == midi and t - 0.1 < time_s < e + 0.1 for m, t, e in played)
            if midi in company or (sounds and not struck):
                continue
            rows.append(heard.features(midi, index, time_s, company - {midi}))
            labels.append(struck)
    return np.array(rows).reshape(-1, len(FEATURES)), np.array(labels, dtype=bool)


if __name__ == "__main__":
    sys.exit(main())
