"""Entries after an introduction: is who comes in early, late or rightly told so?

    bench/entries            40 simulated takes: one to eight bars of introduction, heard in the room or in headphones
    bench/entries --base N   other seeds; move on when single takes were looked at
    bench/entries --write    also refreshes its part of docs/benchmarks.md

In headphones nothing of the accompaniment is in the recording; there the device's delay is known from the sound check, to a few
milliseconds. An entry is told rightly if what was planted is found with its sign and to within a third of a beat, or nothing is said of
a right one. Prints its table; the last line is one JSON object; exits 1 below a floor (bench/floors.json).
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
from dataclasses import dataclass
from pathlib import Path

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from melodies import melody, two_hands  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.sound.backing import Backing  # noqa: E402
from didactor.core.sound.player.performance import Style  # noqa: E402
from didactor.core.sound.player.rooms import ROOMS, SYNTH_RATE_HZ, add_room  # noqa: E402
from didactor.core.sound.player.take import simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402

TAKES = 40
INSTRUMENTS = ("clarinet", "flute", "violin", "trumpet", "piano", "cello", "alto-saxophone", "guitar")
PLANTED = (0.0, -0.5, 1.0, 0.0, 0.5, -1.0, 0.0, 2.0)
SOURCES, PLACES = ("timgm", "additive"), ("bedroom", "kitchen", "classroom")
#: Most keep the accompaniment's pace, one in five leaves it behind or drags.
PACES = (1.0, 1.0, 1.05, 1.0, 1.0, 1.0, 1.0, 0.95, 1.0, 1.0)
#: How well a sound check knows the delay, and what the accompaniment leads with.
KNOWN_TO_S, LEAD_S = 0.012, 0.3
NEAR_BEATS = 1 / 3


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--base", type=int, default=81_000)
    parser.add_argument("--said", action="store_true")
    options = parser.parse_args()
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        found = pool.starmap(_case, [(options.base, number) for number in range(TAKES)])
    rows = [
        "| accompaniment | takes | entries told rightly | false | come apart from it: told | told of takes that do not |",
        "|---|---|---|---|---|---|",
    ]
    for where in ("in the room", "in headphones"):
        own = [f for f in found if f.where == where]
        leaving, staying = [f for f in own if f.pace != 1.0], [f for f in own if f.pace == 1.0]
        apart = f"{sum(f.apart for f in leaving)} of {len(leaving)} | {sum(f.apart for f in staying)} of {len(staying)}"
        rows.append(f"| {where} | {len(own)} | {sum(f.right for f in own)} | {sum(f.false for f in own)} | {apart} |")
    if options.said:
        for number, case in enumerate(found):
            if not case.right or case.apart != (case.pace != 1.0):
                print(f"  {number} {INSTRUMENTS[number % len(INSTRUMENTS)]} {case}")
    figures = {
        "told_rightly_percent": round(100 * sum(f.right for f in found) / TAKES, 1),
        "false": sum(f.false for f in found),
        "apart_told_percent": round(100 * sum(f.apart for f in found if f.pace != 1.0) / sum(f.pace != 1.0 for f in found), 1),
        "apart_false": sum(f.apart for f in found if f.pace == 1.0),
    }
    return close("entries", "\n".join(rows), figures, write=options.write)


@dataclass(frozen=True, kw_only=True)
class Case:
    """Where the accompaniment was heard, the entry planted in beats and what was told of it, the pace of the player against the
    accompaniment's and whether the two were said to come apart.
    """

    where: str
    planted: float
    told: float | None
    pace: float
    apart: bool

    @property
    def right(self) -> bool:
        return self.told is None if self.planted == 0 else self.told is not None and abs(self.told - self.planted) <= NEAR_BEATS

    @property
    def false(self) -> bool:
        return self.told is not None and (self.planted == 0 or (self.told > 0) != (self.planted > 0))


def _case(base: int, number: int) -> Case:
    rng = np.random.default_rng((base, number))
    slug, planted = INSTRUMENTS[number % len(INSTRUMENTS)], PLANTED[(number * 3 + number // 8) % len(PLANTED)]
    instrument, tempo = BY_SLUG[slug], float(rng.choice([66.0, 80.0, 96.0, 112.0]))
    line = (
        two_hands(base + number, bars=8) if slug == "piano" else melody(instrument, base + number, 8, "motifs" if number % 2 else "steps")
    )
    place, source = PLACES[number % 3], SOURCES[number % 2]
    beat = line.bars[0].beat_quarters
    quarter_s = 60.0 / tempo
    intro_s = (1 + number % 8) * line.bars[-1].length_quarters * quarter_s
    pace = PACES[number % len(PACES)]
    played = simulate(
        line, instrument, tempo * pace, style=Style(scatter_ms=9.0, wander_percent=0.8), source=source, room=place, seed=base + number
    )
    track = simulate(two_hands(base + number + 300, bars=8 + 1 + number % 8), BY_SLUG["piano"], tempo, source="timgm", seed=number).samples
    delay_s, enters_s = float(rng.uniform(0.03, 0.25)), LEAD_S + intro_s
    # The first note of the faultless take is put where the introduction ends, then moved by what is planted.
    first_s = played.truth["notes"][0]["onset_s"] - line.notes[0].onset_quarters * quarter_s / pace
    shift_s = max(0.0, enters_s + delay_s + planted * beat * quarter_s - first_s)
    sound = np.concatenate([np.zeros(int(shift_s * SYNTH_RATE_HZ), np.float32), played.samples])
    in_room = number % 2 == 0 if number < TAKES / 2 else number % 2 == 1
    if in_room:
        heard = add_room(track, ROOMS[PLACES[(number + 1) % 3]], rng)
        begin = int(delay_s * SYNTH_RATE_HZ)
        end = min(len(sound), begin + len(heard))
        level = 0.4 * np.sqrt(np.mean(np.square(played.samples))) / max(1e-6, np.sqrt(np.mean(np.square(heard))))
        sound[begin:end] += (level * heard[: end - begin]).astype(np.float32)
    sound = sound + rng.normal(0, 0.001, len(sound)).astype(np.float32)
    recording = Recording(samples=np.clip(soxr.resample(sound, SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32))
    known = soxr.resample(track, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
    backing = Backing(samples=np.clip(known, -1, 1), at_s=0.0, enters_s=enters_s)
    late_s = delay_s + float(rng.normal(0, KNOWN_TO_S))
    targets = Targets(tempo_qpm=tempo, instrument=slug, count_off=4, late_s=max(0.0, late_s))
    findings = analyse(recording, line, targets, backing=backing).findings
    told = next((f.size for f in findings if f.code == "rhythm.entry"), None)
    apart = any(f.code == "rhythm.together" for f in findings)
    return Case(where="in the room" if in_room else "in headphones", planted=planted, told=told, pace=pace, apart=apart)


if __name__ == "__main__":
    sys.exit(main())
