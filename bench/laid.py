"""How exactly a teacher's recording is laid over the score, and whether one of something else is refused.

    bench/laid            20 expressive renderings (rubato, phrase arches; rooms, sound fonts, a source of our own; other tempi than asked
                          for; one in four with an introduction before it), and as many of other pieces
    bench/laid --write    also refreshes its part of docs/benchmarks.md

Bars count whose first beat has a note; the truth is when it can first be heard. Prints its table; the last line is one JSON object; exits 1
below a floor (bench/floors.json).
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
from pathlib import Path

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from melodies import melody, two_hands  # noqa: E402
from report import close  # noqa: E402

from didactor.core.errors import AudioError  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.laid_over import Laid, lay_over  # noqa: E402
from didactor.core.score.expected import Expectation  # noqa: E402
from didactor.core.sound.player.expression import KINDS, drawn  # noqa: E402
from didactor.core.sound.player.performance import Style  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.player.take import simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402

INSTRUMENTS = ("piano", "flute", "violin", "piano", "clarinet", "cello", "trumpet", "guitar", "piano", "voice")
SOURCES, ROOMS = ("timgm", "fluid", "additive"), ("bedroom", "kitchen", "classroom", "hall")
TEMPO = 88.0
#: A teacher plays as it comes: so much of the tempo asked for.
SHARES = (1.0, 0.8, 1.15, 0.65, 0.92)
CASES = 20


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--base", type=int, default=61_000, help="seeds; move on when single cases were looked at")
    parser.add_argument("--said", action="store_true")
    options = parser.parse_args()
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        found = pool.starmap(_case, [(options.base, number) for number in range(CASES)])
    rows, medians, errors = [], [], []
    for number, (errors_ms, other) in enumerate(found):
        if errors_ms is not None:
            medians.append(float(np.median(errors_ms)))
            errors += errors_ms
        if options.said:
            found_ms = "refused" if errors_ms is None else np.round(errors_ms).astype(int).tolist()
            print(f"  {INSTRUMENTS[number % len(INSTRUMENTS)]} {number}: {found_ms}; other {'refused' if other else 'LAID'}")
    figures = {
        "bar_starts_median_ms": round(float(np.median(errors)), 1),
        "bar_starts_p95_ms": round(float(np.percentile(errors, 95)), 1),
        "recordings_under_30_ms": sum(m < 30 for m in medians),
        "worst_recording_median_ms": round(max(medians), 1),
        "laid_of_20": len(medians),
        "others_refused_of_20": sum(other for _, other in found),
    }
    rows = [f"{len(errors)} bars of {len(medians)} recordings."]
    return close("laid", "\n".join(rows), figures, write=options.write)


def _case(base: int, number: int) -> tuple[list[float] | None, bool]:
    """Errors of the bars' first beats, ms, None where it was refused; and whether another piece was refused."""
    slug = INSTRUMENTS[number % len(INSTRUMENTS)]
    expected = _music(slug, base + number)
    played, truth = _played(expected, slug, base, number)
    other, _ = _played(_music(slug, base + number + 500), slug, base + 900, number)
    laid = _laid(played, expected, slug)
    return None if laid is None else _errors_ms(laid, expected, truth), _laid(other, expected, slug) is None


def _music(slug: str, seed: int) -> Expectation:
    manner = "motifs" if seed % 2 else "steps"
    return two_hands(seed, bars=12, manner=manner) if slug == "piano" else melody(BY_SLUG[slug], seed, 14, manner)


def _played(expected: Expectation, slug: str, base: int, number: int) -> tuple[Recording, dict[float, float]]:
    """A recording, and when each written moment can first be heard in it."""
    rng = np.random.default_rng((base, number))
    style = Style(scatter_ms=float(rng.uniform(5, 14)), wander_percent=1.0, chord_spread_ms=14.0, expression=drawn(KINDS[number % 2], rng))
    tempo, source, room = TEMPO * SHARES[number % 5], SOURCES[number % 3], ROOMS[number % 4]
    made = simulate(expected, BY_SLUG[slug], tempo, style=style, source=source, room=room, seed=base + number)
    samples, shift_s = made.samples, 0.0
    if number % 4 == 3:
        before = simulate(_music("piano", base + number + 700), BY_SLUG["piano"], 120.0, source="timgm", room=room, seed=1).samples
        samples, shift_s = np.concatenate([before[: 6 * SYNTH_RATE_HZ], np.zeros(SYNTH_RATE_HZ // 2, np.float32), samples]), 6.5
    truth: dict[float, float] = {}
    at = {(n.id, n.pass_): n.onset_quarters for n in expected.notes if not n.grace}
    for note in made.truth["notes"]:
        quarters = at.get((note["id"], note["pass"]))
        if quarters is not None:
            heard = note["sounding_onset_s"] + shift_s
            truth[quarters] = min(truth.get(quarters, heard), heard)
    return Recording(samples=soxr.resample(samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)), truth


def _laid(recording: Recording, expected: Expectation, slug: str) -> Laid | None:
    try:
        return lay_over(recording, expected, BY_SLUG[slug], TEMPO)
    except AudioError:
        return None


def _errors_ms(laid: Laid, expected: Expectation, truth: dict[float, float]) -> list[float]:
    starts = [bar.start_quarters for bar in expected.bars]
    return [1000.0 * abs(laid.second_of(at) - truth[at]) for at in starts if at in truth]


if __name__ == "__main__":
    sys.exit(main())
