"""The same pitch again and again, plucked and struck: is nothing said that was not played, and a true fault told?

    bench/repeats            all instruments that decay, by three sources of sound
    bench/repeats --instrument ukulele   one of them
    bench/repeats --base N   other seeds; move on when single takes were looked at
    bench/repeats --write    also refreshes its part of docs/benchmarks.md

Lines of five, four and eight alike in a bar, quick and slow, clean and with a wrong note, one left out and one added. Nothing was fitted on
them. Prints a row for each instrument; the last line is one JSON object; exits 1 below a floor (bench/floors.json).
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
from collections import Counter
from pathlib import Path
from typing import Any

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.formats.analysis_json import result_of  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.sound.player.performance import Style  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.player.take import simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402
from didactor.core.units import midi_to_name  # noqa: E402
from tests.music import expectation  # noqa: E402

INSTRUMENTS = ("ukulele", "guitar", "mandolin", "banjo", "harp", "piano", "marimba")
SOURCES, ROOMS = ("timgm", "fluid", "additive"), ("bedroom", "kitchen")
#: Steps above the lowest comfortable note, a letter a step, with their lengths; beats of a bar.
LINES: tuple[tuple[str, int], ...] = (
    ("0:q 0:q 0:q 0:q 0:q | 3:q 3:q 3:q 3:q 3:q | 7:q 7:q 7:q 7:q 7:q", 5),
    ("5:q 5:q 5:q 5:q | 4:e 4:e 4:e 4:e 4:q 4:q | 7:q 7:q 9:q 9:q", 4),
    ("9:e 9:e 9:e 9:e 9:e 9:e 9:e 9:e | 12:e 12:e 12:e 12:e 12:q 12:q", 4),
)
TEMPI = (56, 88, 112)
FAULTS: tuple[list[dict[str, Any]], ...] = (
    [],
    [],
    [{"kind": "wrong", "note": 6, "semitones": 2}],
    [{"kind": "missed", "note": 7}],
    [{"kind": "extra", "note": 7, "semitones": 0}],
)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--base", type=int, default=64_000)
    parser.add_argument("--instrument", choices=INSTRUMENTS)
    options = parser.parse_args()
    cases = [
        (options.base, name, source, line)
        for name in INSTRUMENTS
        if options.instrument in (None, name)
        for source in SOURCES
        for line in range(len(LINES))
    ]
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        found = pool.starmap(_case, cases)
    by: dict[str, Counter[str]] = {name: Counter() for name in INSTRUMENTS}
    for (_, name, _, _), counts in zip(cases, found, strict=True):
        by[name] += counts
    rows = [
        "| instrument | clean takes | without a finding | false findings in 100 notes | wrong told | missed told |",
        "|---|---|---|---|---|---|",
    ]
    for name, counts in by.items():
        if counts["takes"]:
            rows.append(
                f"| {name} | {counts['takes']} | {counts['spotless']} | {100 * counts['false'] / counts['notes']:.2f}"
                f" | {counts['wrong_told']} of {counts['wrong']} | {counts['missed_told']} of {counts['missed']} |"
            )
    all_ = sum(by.values(), Counter())
    figures = {
        "false_in_100": round(100 * all_["false"] / all_["notes"], 2),
        "spotless_percent": round(100 * all_["spotless"] / all_["takes"], 1),
        "wrong_told_percent": round(100 * all_["wrong_told"] / all_["wrong"], 1),
        "missed_told_percent": round(100 * all_["missed_told"] / all_["missed"], 1),
    }
    return close("repeats", "\n".join(rows), figures, write=options.write and options.instrument is None)


def _case(base: int, name: str, source: str, line: int) -> Counter[str]:
    """All takes of one line by one instrument from one source."""
    instrument = BY_SLUG[name]
    text, beats = LINES[line]
    lowest = instrument.low + 5
    music = " ".join(
        f"{midi_to_name(lowest + int(token.split(':')[0]))}:{token.split(':')[1]}" if ":" in token else token for token in text.split()
    )
    expected = expectation(music, fifths=0, beats=beats)
    counts: Counter[str] = Counter()
    for number, faults in enumerate(FAULTS):
        seed = base + 1000 * line + 10 * number + len(name)
        tempo = TEMPI[(line + number) % len(TEMPI)]
        style, room = Style(scatter_ms=8.0, wander_percent=0.6), ROOMS[number % len(ROOMS)]
        take = simulate(expected, instrument, tempo, source=source, style=style, room=room, seed=seed, faults=faults)
        samples = soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
        heard = result_of(analyse(Recording(samples=samples), expected, Targets(tempo_qpm=tempo, instrument=name)))
        codes = [finding.code for finding in heard.findings or ()]
        kind = faults[0]["kind"] if faults else ""
        if not kind:
            counts += Counter(takes=1, spotless=int(not codes), notes=len(expected.notes), false=len(codes))
        elif kind in ("wrong", "missed"):
            counts += Counter({kind: 1, f"{kind}_told": int(f"notes.{kind}" in codes)})
    return counts


if __name__ == "__main__":
    sys.exit(main())
