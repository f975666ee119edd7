"""Is the same recording known again, and never two takes of one passage taken for one?

    bench/same             20 passages, 33 takes of each (10,560 pairs), and 500 copies altered; some quarter of an hour of two cores
    bench/same --count 3   so many passages only
    bench/same --write     also refreshes its part of docs/benchmarks.md

Takes of several players and rooms; every second one is by the same player (the same habits, another day). Copies are cut, made louder or
softer, sent through codecs and a telephone, played half a per cent faster, or with noise. All go through the ear. The last line is one
JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import itertools
import multiprocessing
import os
import sys
from pathlib import Path
from typing import Any

os.environ.setdefault("OMP_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from melodies import melody, two_hands  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.comparing.same_recording import Moment, same_recording  # noqa: E402
from didactor.core.formats.analysis_json import result_of  # noqa: E402
from didactor.core.formats.glance import moments_of  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.score.expected import Expectation  # noqa: E402
from didactor.core.sound.player.degrade import degrade  # noqa: E402
from didactor.core.sound.player.performance import Style  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.player.take import simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402

PASSAGES, TAKES, COPIES = 20, 33, 25
INSTRUMENTS = ("flute", "violin", "piano", "trumpet", "clarinet", "cello", "guitar", "alto-saxophone")
ROOMS = ("bedroom", "kitchen", "classroom", "dry")
WAYS = ("codec", "phone", "level", "cut", "speed", "noise")
TEMPO = 80.0


def passage(number: int, base: int) -> tuple[str, Expectation]:
    slug = INSTRUMENTS[number % len(INSTRUMENTS)]
    return slug, two_hands(base + number, bars=8) if slug == "piano" else melody(BY_SLUG[slug], base + number, 10, "motifs")


def sound_of(number: int, take: int, base: int) -> np.ndarray:
    slug, music = passage(number, base)
    rng = np.random.default_rng((base, number, take if take % 2 else 0))
    style = Style(scatter_ms=float(rng.uniform(4, 12)), wander_percent=float(rng.uniform(0.4, 1.4)))
    tempo = TEMPO * float(np.random.default_rng((base, number, take)).uniform(0.94, 1.06))
    source = ("timgm", "additive")[number % 2]
    return simulate(music, BY_SLUG[slug], tempo, style=style, room=ROOMS[take % 4], source=source, seed=1000 * number + take).samples


def heard(samples: np.ndarray, slug: str, music: Expectation) -> dict[Moment, float]:
    sound = np.clip(soxr.resample(samples, SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32)
    result = result_of(analyse(Recording(samples=sound), music, Targets(tempo_qpm=TEMPO, instrument=slug, stage="steady")))
    return {(bar, pass_, beat): at for bar, pass_, beat, at in moments_of(result)}


def one_take(base: int, number: int, take: int) -> dict[Moment, float]:
    slug, music = passage(number, base)
    return heard(sound_of(number, take, base), slug, music)


def one_copy(base: int, number: int, copy: int) -> tuple[str, int, dict[Moment, float]]:
    rng = np.random.default_rng((base, number, 500 + copy))
    slug, music = passage(number, base)
    way, take = WAYS[(number + copy) % len(WAYS)], int(rng.integers(TAKES))
    samples = sound_of(number, take, base)
    if way == "level":
        samples = samples * float(rng.uniform(0.2, 0.6))
    elif way == "cut":
        length = len(samples)
        samples = samples[int(rng.uniform(0, 0.2) * length) : int(rng.uniform(0.75, 1.0) * length)]
    elif way == "speed":
        samples = soxr.resample(samples, SYNTH_RATE_HZ, SYNTH_RATE_HZ * (1 + float(rng.choice([-0.005, 0.005]))))
    else:
        codec = {"kind": "codec", "name": str(rng.choice(["opus", "mp3", "aac"])), "bit_rate": 32_000}
        kinds = {"codec": codec, "phone": {"kind": "phone"}, "noise": {"kind": "noise", "snr_db": 20}}
        samples = degrade(samples, [kinds[way]], rng)[0]
    return way, take, heard(samples, slug, music)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=PASSAGES)
    parser.add_argument("--base", type=int, default=61_000)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    false = unsure = pairs = 0
    copies: dict[str, list[bool | None]] = {way: [] for way in WAYS}
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        for number in range(options.count):
            _, music = passage(number, options.base)
            quarters = {(n.bar, n.pass_, round(n.beat, 3)): n.onset_quarters for n in music.notes}
            takes = pool.starmap(one_take, [(options.base, number, k) for k in range(TAKES)])
            told = [same_recording(a, b, quarters) for a, b in itertools.combinations(takes, 2)]
            pairs, false, unsure = pairs + len(told), false + sum(t is True for t in told), unsure + sum(t is None for t in told)
            for way, take, moments in pool.starmap(one_copy, [(options.base, number, k) for k in range(COPIES)]):
                copies[way].append(same_recording(moments, takes[take], quarters))
            print(f"  passage {number + 1}: {sum(t is True for t in told)} false of {len(told)}", file=sys.stderr, flush=True)
    every = [t for own in copies.values() for t in own]
    figures: dict[str, Any] = {
        "pairs": pairs,
        "false": false,
        "pairs_not_told": unsure,
        "copies": len(every),
        "copies_found_percent": round(100 * sum(t is True for t in every) / len(every), 1),
    }
    rows = ["| copies | | found | called another | not told |", "|---|---|---|---|---|"]
    for way, own in copies.items():
        counts = (sum(t is outcome for t in own) for outcome in (True, False, None))
        rows.append(f"| {way} | {len(own)} | {' | '.join(map(str, counts))} |")
    return close("same", "\n".join(rows), figures, write=options.write and options.count == PASSAGES)


if __name__ == "__main__":
    sys.exit(main())
