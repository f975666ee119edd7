"""Takes put together: how far apart are the onsets of one moment?

    bench/together             six bands of five takes each, expressive players of other tempi; some four minutes
    bench/together --write     also refreshes its part of docs/benchmarks.md

Each take is rendered with rubato or phrase arches at a tempo of its own, heard by the ear, bent to one tempo, and heard again. Each take's
own median lateness is its instrument's attack and taken out, as a listener does. The last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import itertools
import multiprocessing
import os
import sys
import time
from pathlib import Path

os.environ.setdefault("OMP_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from melodies import melody  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.hearing.hearing import Status  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.score.expected import Expectation  # noqa: E402
from didactor.core.sound.player.expression import drawn  # noqa: E402
from didactor.core.sound.player.performance import Style  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.player.take import simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402
from didactor.core.sound.together import LEAD_S, Voice, bent, mixed  # noqa: E402

BANDS, TEMPO = 6, 88.0
#: Instruments that share a range, so that one melody is played by all.
PLAYERS = (("flute", "timgm"), ("clarinet", "fluid"), ("violin", "additive"), ("oboe", "timgm"), ("trumpet", "fluid"))
ROOMS = ("bedroom", "kitchen", "classroom", "dry")


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with multiprocessing.Pool(os.cpu_count()) as pool:
        found = pool.map(_band, range(BANDS))
    apart = np.concatenate([found_apart for found_apart, _, _ in found])
    seconds = sum(s for _, s, _ in found)
    length = sum(n for _, _, n in found)
    figures = {
        "apart_median_ms": round(1000 * float(np.median(apart)), 1),
        "apart_p95_ms": round(1000 * float(np.percentile(apart, 95)), 1),
        "seconds_a_minute": round(60 * seconds / length, 2),
    }
    rows = ["| bands | takes | pairs of onsets | apart, median ms | p95 |", "|---|---|---|---|---|"]
    rows.append(f"| {BANDS} | {BANDS * len(PLAYERS)} | {len(apart)} | {figures['apart_median_ms']} | {figures['apart_p95_ms']} |")
    return close("together", "\n".join(rows), figures, write=options.write)


def _band(number: int) -> tuple[np.ndarray, float, float]:
    """Differences between onsets of one moment, seconds of work, seconds of sound."""
    rng = np.random.default_rng(number)
    music = melody(BY_SLUG["oboe"], 300 + number, 12, "motifs" if number % 2 else "steps")
    late: dict[float, list[float]] = {}
    spent = length = 0.0
    made = []
    for k, (slug, source) in enumerate(PLAYERS):
        tempo = float(TEMPO * rng.uniform(0.85, 1.15))
        style = Style(scatter_ms=float(rng.uniform(6, 14)), expression=drawn("arches" if k % 2 else "rubato", rng))
        take = simulate(
            music, BY_SLUG[slug], tempo, style=style, source=source, room=str(rng.choice(ROOMS)), seed=int(rng.integers(1 << 30))
        )
        sound = np.clip(soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32)
        begun = time.process_time()
        made.append(bent(Voice(samples=sound, anchors=_anchors(sound, music, slug, tempo)), RATE_HZ, 60.0 / TEMPO))
        spent, length = spent + time.process_time() - begun, length + len(sound) / RATE_HZ
        heard = _anchors(made[-1], music, slug, TEMPO)
        off = np.array([at - LEAD_S - quarters * 60.0 / TEMPO for quarters, at in heard])
        for (quarters, _), o in zip(heard, off - np.median(off), strict=True):
            late.setdefault(quarters, []).append(float(o))
    begun = time.process_time()
    mixed(made, RATE_HZ)
    spent += time.process_time() - begun
    return np.array([abs(a - b) for own in late.values() for a, b in itertools.combinations(own, 2)]), spent, length


def _anchors(sound: np.ndarray, music: Expectation, slug: str, tempo: float) -> list[tuple[float, float]]:
    evidence = analyse(Recording(samples=sound), music, Targets(tempo_qpm=tempo, instrument=slug)).evidence
    if evidence is None:
        return []
    right = [n for n in evidence.notes if n.status is Status.CORRECT and n.onset_s is not None]
    return sorted({n.note.onset_quarters: float(n.onset_s or 0.0) for n in right}.items())


if __name__ == "__main__":
    sys.exit(main())
