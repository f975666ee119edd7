"""How quickly an attempt of a few seconds is heard, on one core, with the models loaded once: what practising in small steps needs.

    bench/live            attempts of 3 to 15 s, one voice, two hands, strummed and clapped, clean and with one wrong note
    bench/live --write    also refreshes its part of docs/benchmarks.md

Prints its table; the last line is one JSON object; exits 1 below a floor (bench/floors.json).
"""

from __future__ import annotations

import argparse
import os
import statistics
import sys
import time
from pathlib import Path

os.environ.setdefault("OMP_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]
os.sched_setaffinity(0, {0})

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from melodies import melody, two_hands  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.player.take import simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402

RUNS, TEMPO = 5, 92.0
#: Instrument to how its attempts are played; bars of an attempt.
ATTEMPTS = {"flute": "play", "violin": "play", "trumpet": "play", "guitar": "play", "piano": "play", "claps": "clap"}
BARS = (1, 2, 4, 5)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    rows, per_8_s, told, planted, false = [], [], 0, 0, 0
    for slug, manner in ATTEMPTS.items():
        instrument = BY_SLUG[slug]
        for number, bars in enumerate(BARS):
            if slug == "piano":
                expectation = two_hands(900 + number, bars=bars)
            else:
                expectation = melody(BY_SLUG["clarinet"] if slug == "claps" else instrument, 900 + number, bars=bars)
            middle = len(expectation.notes) // 2
            faults = [{"kind": "wrong", "note": middle, "semitones": 2}] if number % 2 and manner == "play" else []
            take = simulate(expectation, instrument, TEMPO, faults=faults, source="timgm", room="bedroom", seed=number, manner=manner)
            recording = Recording(samples=soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32))
            targets = Targets(tempo_qpm=TEMPO, instrument=slug, step="clap" if manner == "clap" else "play")
            analysis, seconds = None, []
            for _ in range(RUNS + 1):
                begun = time.perf_counter()
                analysis = analyse(recording, expectation, targets)
                seconds.append(time.perf_counter() - begun)
            heard_s = statistics.median(seconds[1:])  # the first one loads the models
            per_8_s.append(heard_s * 8 / recording.duration_s)
            notes = [f for f in analysis.findings if f.code.startswith("notes.")] if analysis else []
            named = [f for f in notes if f.note_ids and f.note_ids[0] == expectation.notes[middle].id]
            planted, told, false = planted + len(faults), told + bool(faults and named), false + len(notes) - len(named)
            rows.append(f"| {slug} | {recording.duration_s:.1f} | {heard_s:.2f} | {per_8_s[-1]:.2f} |")
    figures = {
        "median_s_per_8_s": round(statistics.median(per_8_s), 3),
        "worst_s_per_8_s": round(max(per_8_s), 3),
        "wrong_notes_told_percent": round(100 * told / planted, 1),
        "false_remarks_about_notes": false,
    }
    table = "\n".join(["| instrument | attempt, s | heard in, s | for 8 s of sound |", "|---|---|---|---|", *rows])
    return close("live", table, figures, write=options.write)


if __name__ == "__main__":
    sys.exit(main())
