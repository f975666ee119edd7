"""How fast the ear is and how much memory it takes, on one core.

    bench/speed            a one-minute take: decoding in the sandbox, copy for playing back, hearing, judging
    bench/speed --write    also refreshes its part of docs/benchmarks.md

Prints its table; the last line is one JSON object; exits 1 below a floor (bench/floors.json).
"""

from __future__ import annotations

import argparse
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]
os.sched_setaffinity(0, {0})

from melodies import melody, two_hands  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.formats.analysis_json import analysis_to_json  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.sound.player.take import simulate, wav_bytes  # noqa: E402
from didactor.core.sound.recording import open_with_copy  # noqa: E402

RUNS = 5


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    started = time.perf_counter()
    subprocess.run([sys.executable, "-c", "import didactor.core.analyse"], check=True, cwd=HERE.parent)
    start_up = time.perf_counter() - started
    rows, figures = [], {}
    for name in ("flute", "violin", "guitar", "two hands"):
        instrument = BY_SLUG["piano" if name == "two hands" else name]
        expectation = two_hands(77, bars=32) if name == "two hands" else melody(instrument, 77, bars=40)
        tempo = 60 * expectation.length_quarters / 58.0
        take = simulate(expectation, instrument, tempo, source="timgm", room="bedroom", seed=5)
        data = wav_bytes(take.samples)
        opening, hearing = [], []
        for _ in range(RUNS):
            with tempfile.TemporaryFile() as source:
                source.write(data)
                source.flush()
                begun = time.perf_counter()
                recording, _ = open_with_copy(source)
                opened = time.perf_counter()
                analysis_to_json(analyse(recording, expectation, Targets(tempo_qpm=tempo, instrument=instrument.slug)))
                done = time.perf_counter()
            opening.append(opened - begun)
            hearing.append(done - opened)
        open_s, hear_s = statistics.median(opening), statistics.median(hearing)
        speed = recording.duration_s / hear_s
        rows.append(f"| {name} | {recording.duration_s:.0f} | {open_s:.2f} | {hear_s:.2f} | {open_s + hear_s:.2f} | {speed:.0f} |")
        label = name.replace(" ", "_")
        figures[f"{label}_total_s"] = round((open_s + hear_s) * 60 / recording.duration_s, 2)
        figures[f"{label}_hearing_x_real_time"] = round(recording.duration_s / hear_s, 1)
        if name == "guitar":
            figures["one_voice_peak_memory_mb"] = round(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
    figures["worst_total_s_per_minute"] = max(v for k, v in figures.items() if k.endswith("_total_s") and not k.startswith("two"))
    figures["peak_memory_mb"] = round(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
    figures["sandbox_peak_memory_mb"] = round(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024)
    figures["import_s"] = round(start_up, 2)
    header = "| instrument | take, s | decode and copy, s | hear and judge, s | together, s | hearing, x real time |"
    table = "\n".join([header, "|---|---|---|---|---|---|", *rows])
    return close("speed", table, figures, write=options.write)


if __name__ == "__main__":
    sys.exit(main())
