"""Fits the odds that a key was struck, from the fit set of the benchmark.

    bench/fit_presence            all models: many voices (presence.json), extra notes among them (presence_extra.json, which rests on
                                  the first) and the second opinion on one voice (presence_one.json)
    bench/fit_presence many       one of them: one, many, extra

For every written note whose place in the take was found: the key itself (played or not, as the truth has it) and, as examples of what
was not played, keys around it; for one voice also the sounds that no note explains. For many voices takes with many holes are added
(``takes.training``), and decision trees are boosted by scikit-learn; for the others a logistic regression with a ridge, by scipy. Every
fifth take is kept out and tells how good the odds are; for many voices each source in turn is kept out as well.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import takes as of  # noqa: E402
from scipy.optimize import minimize  # noqa: E402

from didactor.core.hearing import extra_keys, groups, many_voices, one_voice, presence, second_opinion  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402

AROUND = (-12, -7, -4, -3, -2, -1, 1, 2, 3, 4, 5, 12)
#: Extra notes are few: their model is held shorter.
RIDGE = {"one": 2e-3, "many": 2e-3, "extra": 1e-2}
NEAR_S = 0.12
MODELS = {"one": second_opinion.MODEL, "many": presence.MODEL, "extra": extra_keys.EXTRA_MODEL}
#: What the trees look at and whether the key was struck; for many voices also whether it was written.
Rows = tuple[np.ndarray, ...]
#: Holes are few, and they are what matters; how many trees are boosted how far.
HOLE_WEIGHT = 3.0
TREES = {"max_iter": 250, "learning_rate": 0.06, "max_leaf_nodes": 15, "l2_regularization": 1.0, "min_samples_leaf": 30, "random_state": 1}


def main() -> int:
    for voices in sys.argv[1:] or MODELS:
        with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
            scenarios = of.scenarios(of.FIT, "one" if voices == "one" else "many")
            scenarios += of.training(of.FIT) if voices == "many" else []
            sets = pool.map(ROWS[voices], scenarios, chunksize=2)
        print(f"{voices}:")
        if voices == "many":
            _fit_trees(MODELS[voices], sets, [scenario.source for scenario in scenarios])
        else:
            _fit(MODELS[voices], sets, RIDGE[voices])
    return 0


def _fit_trees(forest: presence.Forest, sets: list[Rows], sources: list[str]) -> None:
    for kept_out in sorted(set(sources)):
        _tell(kept_out, _boosted([s for s, source in zip(sets, sources, strict=True) if source != kept_out]), sets, sources, kept_out)
    booster = _boosted(sets)
    nodes = [predictor[0].nodes for predictor in booster._predictors]
    most, depth = max(map(len, nodes)), max(int(n["depth"].max()) for n in nodes)

    def column(name: str, leaf: Callable[[np.ndarray], np.ndarray]) -> list[list[float]]:
        """Of all trees, filled up to the largest. A leaf looks at anything and stays where it is."""
        filled = []
        for tree in nodes:
            values = np.where(tree["is_leaf"], leaf(tree), tree[name]).astype(float)
            filled.append([*(round(v, 6) for v in values.tolist()), *[0.0] * (most - len(tree))])
        return filled

    data: dict[str, Any] = {
        "features": list(forest.names),
        "bias": round(float(booster._baseline_prediction[0, 0]), 6),
        "depth": depth,
        "threshold": column("num_threshold", lambda tree: np.zeros(len(tree))),
        "value": column("value", lambda tree: tree["value"]),
    }
    for name, source in (("feature", "feature_idx"), ("left", "left"), ("right", "right")):
        own = (lambda tree: np.zeros(len(tree))) if name == "feature" else (lambda tree: np.arange(len(tree)))
        data[name] = [[int(v) for v in row] for row in column(source, own)]
    forest.path.write_text(json.dumps(data, separators=(",", ":")) + "\n")


def _boosted(sets: list[Rows]) -> Any:
    from sklearn.ensemble import HistGradientBoostingClassifier

    x, y, written = (np.concatenate([s[k] for s in sets]) for k in range(3))
    weight = np.where(y, 0.5 / y.mean(), 0.5 / (1 - y.mean())) * np.where(written & ~y, HOLE_WEIGHT, 1.0)
    return HistGradientBoostingClassifier(**TREES).fit(x, y, sample_weight=weight)


def _tell(name: str, booster: Any, sets: list[Rows], sources: list[str], kept_out: str) -> None:
    """How well holes of a source that was not fitted to are told from its notes."""
    x, y, written = (np.concatenate([s[k] for s, source in zip(sets, sources, strict=True) if source == kept_out]) for k in range(3))
    odds = booster.decision_function(x[written])
    struck, silent = odds[y[written]], odds[~y[written]]
    told = {share: 100 * (silent < np.quantile(struck, share / 100)).mean() for share in (0.05, 0.2, 0.5)}
    text = ", ".join(f"{found:.1f} % with {share} % of its notes" for share, found in told.items())
    print(f"  {name} kept out: {len(silent)} holes, taken for such {text}")


def _fit(model: presence.Model, sets: list[Rows], ridge: float) -> None:
    fit, kept = [s for i, s in enumerate(sets) if i % 5], [s for i, s in enumerate(sets) if i % 5 == 0]
    x, y = np.concatenate([s[0] for s in fit]), np.concatenate([s[1] for s in fit])
    weight = np.where(y, 0.5 / y.mean(), 0.5 / (1 - y.mean()))
    wide = model.expanded(x)
    mean, scale = wide.mean(axis=0), wide.std(axis=0) + 1e-6
    scaled = (wide - mean) / scale

    def loss(parameters: np.ndarray) -> tuple[float, np.ndarray]:
        odds = scaled @ parameters[1:] + parameters[0]
        value = float((weight * np.logaddexp(0, np.where(y, -odds, odds))).mean() + ridge * np.square(parameters[1:]).sum())
        slope = weight * (1 / (1 + np.exp(-odds)) - y) / len(y)
        return value, np.concatenate([[slope.sum()], scaled.T @ slope + 2 * ridge * parameters[1:]])

    found = minimize(loss, np.zeros(scaled.shape[1] + 1), jac=True, method="L-BFGS-B", options={"maxiter": 500})
    data = {
        "features": list(model.names),
        "mean": [round(float(v), 6) for v in mean],
        "scale": [round(float(v), 6) for v in scale],
        "weights": [round(float(v), 6) for v in found.x[1:]],
        "bias": round(float(found.x[0]), 6),
    }
    model.path.write_text(json.dumps(data) + "\n")
    for name, part in (("fit", fit), ("kept out", kept)):
        x, y = np.concatenate([s[0] for s in part]), np.concatenate([s[1] for s in part])
        odds = (model.expanded(x) - mean) / scale @ found.x[1:] + found.x[0]
        probability = 1 / (1 + np.exp(-odds))
        doubtful = 100 * ((probability > 0.05) & (probability < 0.95)).mean()
        struck, silent = 100 * (probability[y] > 0.5).mean(), 100 * (probability[~y] > 0.5).mean()
        print(f"  {name}: {len(y)} keys, {100 * y.mean():.0f} % struck")
        print(f"    taken for struck: {struck:.2f} % of those, {silent:.2f} % of the others; doubtful: {doubtful:.1f} %")


def _many(scenario: of.Scenario) -> Rows:
    made = of.take(scenario)
    heard = many_voices.listen(made.samples, made.expectation, 60 / made.targets.tempo_qpm)
    rng, rows, labels, written_ones = np.random.default_rng(scenario.seed), [], [], []
    for _, index, time_s, company in heard.rows() if heard else ():
        written = made.expectation.notes[index].sounding_midi + heard.shift
        for midi in (written, *(written + int(d) for d in rng.choice(AROUND, 2, replace=False))):
            label = _was_struck(made, midi, time_s)
            # A written key that only goes on sounding was not struck, and must be told from one that was.
            label = bool(label) if midi == written else label
            if midi not in company and label is not None:
                rows.append(heard.features(midi, index, time_s, company - {midi}))
                labels.append(label)
                written_ones.append(midi == written)
    return np.array(rows).reshape(-1, len(presence.MODEL.names)), np.array(labels, dtype=bool), np.array(written_ones, dtype=bool)


def _extra(scenario: of.Scenario) -> Rows:
    """Strikes that no written note took: extra notes, and what only sounds like one."""
    made = of.take(scenario)
    heard = many_voices.listen(made.samples, made.expectation, 60 / made.targets.tempo_qpm)
    asked, rows = extra_keys.strays(heard, heard.notes_heard()) if heard else ([], np.zeros((0, len(extra_keys.EXTRA_MODEL.names))))
    strays = [n for n in made.truth["notes"] if n["id"] is None]
    is_extra = np.array([_is_among(strays, s) for s in asked], dtype=bool)
    # A wrong note is struck as well, but it stands for a written one.
    is_silent = np.array([_was_struck(made, s.midi, s.time_s) is False for s in asked], dtype=bool)
    kept = is_extra | is_silent
    return rows[kept], is_extra[kept]


def _is_among(strays: list[dict], strike: groups.Strike) -> bool:
    return any(n["midi"] == strike.midi and abs(n["sounding_onset_s"] - strike.time_s) < NEAR_S for n in strays)


def _one(scenario: of.Scenario) -> Rows:
    made = of.take(scenario)
    line = one_voice.listen_to_line(made.samples, made.expectation, 60 / made.targets.tempo_qpm, BY_SLUG[scenario.instrument])
    rng, rows, labels = np.random.default_rng(scenario.seed), [], []
    asked: list[tuple[int, float, float]] = []
    for index in range(len(made.expectation.notes)) if line else ():
        place = line.place_of(index)
        if place is not None:
            written = made.expectation.notes[index].sounding_midi + line.shift
            asked += [(written, *place), (written + int(rng.choice(AROUND)), *place)]
    asked += [(e.midi, e.onset_s, e.duration_s) for e in line.unmatched_events()] if line else []
    for midi, time_s, duration_s in asked:
        label = _was_struck(made, midi, time_s)
        if label is not None:
            rows.append(line.second.row(midi, time_s, duration_s))
            labels.append(label)
    return np.array(rows).reshape(-1, len(second_opinion.MODEL.names)), np.array(labels, dtype=bool)


def _was_struck(made: of.Take, midi: int, time_s: float) -> bool | None:
    """Whether the truth has that key begin there; None where it only goes on sounding."""
    own = [n for n in made.truth["notes"] if n["midi"] == midi]
    if any(abs(n["sounding_onset_s"] - time_s) < NEAR_S for n in own):
        return True
    return None if any(n["sounding_onset_s"] - 0.1 < time_s < n["offset_s"] + 0.1 for n in own) else False


ROWS = {"one": _one, "many": _many, "extra": _extra}

if __name__ == "__main__":
    sys.exit(main())
