"""Recordings that cannot be judged, and bad ones that can: does the gate know them apart?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import melodies
import numpy as np
import soxr
from takes import Set

from didactor.core.analyse import analyse
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.degrade import degrade
from didactor.core.sound.player.performance import BEGINNER
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording

INSTRUMENTS = ("flute", "violin", "trumpet", "cello", "piano")
TEMPO = 92.0
#: Heard in spite of everything: nothing of this may be refused.
USABLE: dict[str, dict[str, Any]] = {
    "soft": {"degradations": [{"kind": "quiet", "db": -30}]},
    "noise 12 dB": {"degradations": [{"kind": "noise", "snr_db": 12}]},
    "begins late, ends early": {"degradations": [{"kind": "cut", "start_s": 2.0, "end_s": 14.0}]},
    "dropouts": {"degradations": [{"kind": "dropout", "count": 5}]},
    "applause": {"degradations": [{"kind": "applause", "level_db": -6, "length_s": 2.0}]},
    "a beginner's bad day": {"style": BEGINNER, "wrong": 0.2},
    "half the tempo": {"faults": [{"kind": "tempo", "factor": 0.5}]},
}
UNUSABLE = ("silence", "hiss", "hum", "talk", "another piece", "a moment")


@dataclass(frozen=True, kw_only=True)
class Case:
    name: str
    usable: bool
    instrument: str
    number: int


def cases(which: Set) -> list[Case]:
    return [
        Case(name=name, usable=usable, instrument=instrument, number=which.base + 60_000 + 100 * i + k)
        for i, instrument in enumerate(INSTRUMENTS)
        for k, (name, usable) in enumerate([(n, True) for n in USABLE] + [(n, False) for n in UNUSABLE])
    ]


def is_right(which: Set, case: Case) -> tuple[bool, str]:
    """Whether the gate does with a case what it should, and what it said."""
    instrument = BY_SLUG[case.instrument]
    expectation = melodies.melody(instrument, case.number, 8, which.manner)
    samples = _usable(which, case, expectation) if case.usable else _unusable(which, case)
    sound = np.clip(soxr.resample(samples, SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32)
    analysis = analyse(Recording(samples=sound), expectation, Targets(tempo_qpm=TEMPO, instrument=case.instrument, stage="first_reading"))
    said = ", ".join(dict.fromkeys(p.code for p in analysis.quality.problems)) or analysis.quality.verdict
    return (analysis.evidence is not None) == case.usable, said


def _usable(which: Set, case: Case, expectation: Expectation) -> np.ndarray:
    how = dict(USABLE[case.name])
    wrong = how.pop("wrong", 0.0)
    rng = np.random.default_rng(case.number)
    faults = [
        {"kind": "wrong", "note": i, "semitones": int(rng.choice([-2, 2]))} for i in range(len(expectation.notes)) if rng.random() < wrong
    ]
    return simulate(
        expectation,
        BY_SLUG[case.instrument],
        TEMPO,
        source=which.sources[case.number % 2],
        room=which.rooms[0],
        seed=case.number,
        faults=how.pop("faults", []) + faults,
        **how,
    ).samples


def _unusable(which: Set, case: Case) -> np.ndarray:
    rng, count = np.random.default_rng(case.number), 12 * SYNTH_RATE_HZ
    still = rng.normal(0, 1e-4, count).astype(np.float32)
    if case.name == "silence":
        return np.zeros(count, dtype=np.float32)
    if case.name == "hiss":
        return rng.normal(0, 0.1, count).astype(np.float32)
    if case.name == "hum":
        time = np.arange(count) / SYNTH_RATE_HZ
        return np.asarray(0.1 * sum(np.sin(2 * np.pi * 50 * k * time) / k for k in (1, 2, 3, 5)), dtype=np.float32)
    if case.name == "talk":
        loud = still + 0.05 * np.sin(2 * np.pi * 200 * np.arange(count) / SYNTH_RATE_HZ).astype(np.float32) * (np.arange(count) < 50)
        return degrade(loud, [{"kind": "speech", "snr_db": -60}], rng)[0] / 30
    other = melodies.melody(BY_SLUG[case.instrument], case.number + 7, 8, which.manner)
    take = simulate(other, BY_SLUG[case.instrument], TEMPO, source=which.sources[case.number % 2], room=which.rooms[0], seed=case.number)
    return take.samples if case.name == "another piece" else take.samples[SYNTH_RATE_HZ : int(1.3 * SYNTH_RATE_HZ)]


def table(results: list[tuple[Case, bool, str]]) -> tuple[str, dict[str, float]]:
    """A row for each kind of recording, and the figures."""
    rows = ["| recording | should be | right | said |", "|---|---|---|---|"]
    for name, usable in dict.fromkeys((c.name, c.usable) for c, _, _ in results):
        own = [(right, said) for c, right, said in results if c.name == name]
        said = "; ".join(sorted({s for _, s in own}))
        rows.append(f"| {name} | {'heard' if usable else 'refused'} | {sum(r for r, _ in own)} of {len(own)} | {said} |")
    bad = [right for c, right, _ in results if not c.usable]
    good = [right for c, right, _ in results if c.usable]
    figures = {
        "gate_unusable_recognised_percent": round(100 * sum(bad) / len(bad), 1),
        "gate_good_refused": float(len(good) - sum(good)),
    }
    return "\n".join(rows), figures
