"""Fits the odds that a key was struck, from the fit set of the benchmark.

    bench/fit_presence            all models: many voices (presence.json), extra notes among them (presence_extra.json, which rests on
                                  the first) and the second opinion on one voice (presence_one.json)
    bench/fit_presence many       one of them: one, many, extra

For every written note whose place in the take was found: the key itself (played or not, as the truth has it) and, as examples of what
was not played, keys around it; for one voice also the sounds that no note explains. Logistic regression with a ridge, by scipy.
Every fifth take is kept out and tells how good the odds are.
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

from didactor.core.hearing import extra_keys, groups, many_voices, one_voice, presence, second_opinion  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402

AROUND = (-12, -7, -4, -3, -2, -1, 1, 2, 3, 4, 5, 12)
#: Extra notes are few: their model is held shorter.
RIDGE = {"one": 2e-3, "many": 2e-3, "extra": 1e-2}
NEAR_S = 0.12
MODELS = {"one": second_opinion.MODEL, "many": presence.MODEL, "extra": extra_keys.EXTRA_MODEL}
Rows = tuple[np.ndarray, np.ndarray]


def main() -> int:
    for voices in sys.argv[1:] or MODELS:
        with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
            sets = pool.map(ROWS[voices], of.scenarios(of.FIT, "one" if voices == "one" else "many"), chunksize=2)
        print(f"{voices}:")
        _fit(MODELS[voices], sets, RIDGE[voices])
    return 0


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
    rng, rows, labels = np.random.default_rng(scenario.seed), [], []
    for _, index, time_s, company in heard.rows() if heard else ():
        written = made.expectation.notes[index].sounding_midi + heard.shift
        for midi in (written, *(written + int(d) for d in rng.choice(AROUND, 2, replace=False))):
            label = _was_struck(made, midi, time_s)
            if midi not in company and label is not None:
                rows.append(heard.features(midi, index, time_s, company - {midi}))
                labels.append(label)
    return np.array(rows).reshape(-1, len(presence.MODEL.names)), np.array(labels, dtype=bool)


def _extra(scenario: of.Scenario) -> Rows:
    """Strikes that no written note took: extra notes, and what only sounds like one."""
    made = of.take(scenario)
    heard = many_voices.listen(made.samples, made.expectation, 60 / made.targets.tempo_qpm)
    asked, rows = heard.strays(heard.notes_heard()) if heard else ([], np.zeros((0, len(extra_keys.EXTRA_MODEL.names))))
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
