"""How right the ear is, on takes of the simulated player that no threshold was fitted to.

    bench/accuracy              the held-out set, everything: one and many voices, chords, strokes, passages without notation
    bench/accuracy --fit        the other set, for working on the method
    bench/accuracy --quick      a small share of both clean and faulty takes, under 60 s, for bin/test
    bench/accuracy --only one   one kind of music: one, many, chords, strokes, clapped, pulse, said, gate (may be repeated)
    bench/accuracy --share 0.1  a tenth of the takes
    bench/accuracy --said       every disagreement, take by take (not for held-out takes that are to stay so)
    bench/accuracy --write      also refreshes its part of docs/benchmarks.md and the plots (with --share: says how many takes)

Prints its tables; the last line is one JSON object; exits 1 below a floor (bench/floors.json).
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
import time
from pathlib import Path

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import accuracy_tables as tables  # noqa: E402
import gate_cases  # noqa: E402
import numpy as np  # noqa: E402
import takes as of  # noqa: E402
from report import close  # noqa: E402
from scoring import Score, score  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.sound.recording import Recording  # noqa: E402

KINDS = ("one", "many", "moved", "beside", "entries", "chords", "strokes", "clapped", "pulse", "said")
QUICK_TAKES = {"one": 14, "many": 5, "moved": 3, "beside": 3, "entries": 1, "chords": 2, "strokes": 2, "clapped": 1, "pulse": 1, "said": 1}


def main() -> int:
    parser = argparse.ArgumentParser()
    for flag in ("--quick", "--fit", "--write", "--said"):
        parser.add_argument(flag, action="store_true")
    parser.add_argument("--only", action="append", choices=(*KINDS, "gate"))
    parser.add_argument("--condition", help="only takes whose condition begins so")
    parser.add_argument("--share", type=float, default=1.0)
    options = parser.parse_args()
    # The quick set uses what bin/test installs: the small sound font.
    which = of.FIT if options.fit or options.quick else of.HELD_OUT
    scenarios = [s for kind in options.only or KINDS if kind in KINDS for s in _choose(which, kind, options)]
    cases = [] if options.quick or options.condition or (options.only and "gate" not in options.only) else gate_cases.cases(which)
    started = time.monotonic()
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        scored = []
        for number, result in enumerate(pool.imap(_one, scenarios, chunksize=2), start=1):
            scored.append(result)
            if number % 50 == 0:
                print(f"  {number} of {len(scenarios)} takes, {time.monotonic() - started:.0f} s", file=sys.stderr, flush=True)
        gate = [(c, *result) for c, result in zip(cases, pool.starmap(gate_cases.is_right, [(which, c) for c in cases]), strict=True)]
    groups = [tables.Entry(scenario=s, score=r, seconds=t) for s, (r, t) in zip(scenarios, scored, strict=True)]
    if options.said:
        for entry in groups:
            for line in entry.score.said:
                print("  ", line)
    text, figures = tables.summary(groups)
    if gate:
        gate_text, gate_figures = gate_cases.table(gate)
        text, figures = f"{text}\n\n### The gate\n\n{gate_text}", figures | gate_figures
    name = "accuracy_quick" if options.quick else "accuracy_fit" if options.fit else "accuracy"
    made_of = f"{len(groups)} of the {sum(len(of.scenarios(which, kind)) for kind in KINDS)} takes of the {which.name} set."
    print(f"{time.monotonic() - started:.0f} s, {made_of}")
    text = "" if options.quick else f"{made_of}\n\n{text}"
    write = options.write and name == "accuracy" and not options.only
    if write:
        tables.plots(groups, HERE.parent / "docs" / "plots")
    return close(name, text, figures, write=write)


def _choose(which: of.Set, kind: str, options: argparse.Namespace) -> list[of.Scenario]:
    every = of.scenarios(which, kind)
    if options.condition:
        every = [s for s in every if s.condition.startswith(options.condition)]
    if options.quick:
        every = [s for s in every if s.source in ("timgm", "own") and s.condition not in of.BESIDES]
        return every[:: max(1, len(every) // QUICK_TAKES[kind])][: QUICK_TAKES[kind]]
    # Drawn by lot: every so many would meet the same conditions again and again, as these are dealt in turn.
    kept = np.random.default_rng(1).permutation(len(every))[: round(options.share * len(every))]
    return [every[i] for i in sorted(kept)]


def _one(scenario: of.Scenario) -> tuple[Score, float]:
    take = of.take(scenario)
    started = time.monotonic()
    analysis = analyse(Recording(samples=take.samples), take.expectation, take.targets, backing=take.backing)
    seconds = time.monotonic() - started
    return score(take, analysis), seconds / (len(take.samples) / 32_000)


if __name__ == "__main__":
    sys.exit(main())
