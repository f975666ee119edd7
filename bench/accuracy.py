"""How right the ear is, on takes of the simulated player that no threshold was fitted to (their seeds are the held-out ones).

    bench/accuracy            six instruments x two sources x two rooms, clean, and the same with faults
    bench/accuracy --quick    a small version, under 60 s, for bin/test
    bench/accuracy --fit      other melodies and seeds, for working on the method
    bench/accuracy --write    also refreshes its part of docs/benchmarks.md

Prints its table; the last line is one JSON object; exits 1 below a floor (bench/floors.json).
"""

from __future__ import annotations

import argparse
import sys
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import soxr

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

from melodies import melody  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import Analysis, analyse  # noqa: E402
from didactor.core.instruments import BY_SLUG, Instrument  # noqa: E402
from didactor.core.judging.evidence import Status  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.score.expected import Expectation  # noqa: E402
from didactor.core.sound.player.performance import Style  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.player.take import SimulatedTake, simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402

INSTRUMENTS = ("flute", "violin", "clarinet", "horn", "cello", "guitar")
SOURCES = ("timgm", "fluid")
ROOMS = ("bedroom", "hall")
TEMPI = (66.0, 84.0, 100.0, 120.0)


@dataclass
class Tally:
    """Counts over one group of takes."""

    notes: int = 0
    judged: int = 0
    right: int = 0
    findings: int = 0
    takes: int = 0
    spotless: int = 0
    tempo_errors: list[float] = field(default_factory=list)
    onset_errors_ms: list[float] = field(default_factory=list)
    found: int = 0
    planted: int = 0
    accused: int = 0
    worst: list[str] = field(default_factory=list)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--fit", action="store_true")
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--verbose", action="store_true")
    options = parser.parse_args()
    base = 50_000 if options.fit else 170_000
    sources, rooms = (("timgm",), ("bedroom",)) if options.quick else (SOURCES, ROOMS)
    clean: dict[str, Tally] = {}
    faulty: dict[str, Tally] = {}
    started = time.monotonic()
    for number, slug in enumerate(INSTRUMENTS):
        for source in sources:
            for room in rooms:
                for take in range(1 if options.quick else 2):
                    seed = base + 1000 * number + 100 * SOURCES.index(source) + 10 * ROOMS.index(room) + take
                    _one(
                        BY_SLUG[slug],
                        source,
                        room,
                        seed,
                        clean.setdefault(slug, Tally()),
                        faulty.setdefault(slug, Tally()),
                        options.verbose,
                    )
    total, broken = _sum(clean.values()), _sum(faulty.values())
    rows = [_row(slug, clean[slug], faulty[slug]) for slug in INSTRUMENTS] + [_row("all", total, broken)]
    figures = {
        "false_marks_per_200_notes": round(200 * total.findings / total.notes, 3),
        "clean_status_right_percent": round(100 * total.right / max(1, total.judged), 3),
        "clean_judged_percent": round(100 * total.judged / total.notes, 3),
        "clean_takes_spotless_percent": round(100 * total.spotless / total.takes, 1),
        "tempo_error_p95_percent": round(float(np.percentile(total.tempo_errors, 95)), 3),
        "tempo_error_max_percent": round(max(total.tempo_errors), 3),
        "onset_error_median_ms": round(float(np.median(total.onset_errors_ms)), 2),
        "onset_error_p95_ms": round(float(np.percentile(total.onset_errors_ms, 95)), 2),
        "fault_recall_percent": round(100 * broken.found / max(1, broken.planted), 2),
        "fault_precision_percent": round(100 * broken.found / max(1, broken.accused), 2),
        "takes": total.takes + broken.takes,
    }
    header = (
        "| instrument | clean notes | judged % | status right % | false marks / 200 "
        "| tempo error max % | onset ms median / p95 | faults recall / precision % |"
    )
    table = "\n".join([header, "|---|---|---|---|---|---|---|---|", *rows])
    for line in total.worst + broken.worst:
        print("  ", line)
    print(f"{time.monotonic() - started:.0f} s")
    return close(
        "accuracy_quick" if options.quick else "accuracy", table, figures, write=options.write and not options.quick and not options.fit
    )


def _one(instrument: Instrument, source: str, room: str, seed: int, clean: Tally, faulty: Tally, verbose: bool) -> None:
    rng = np.random.default_rng(seed)
    expectation = melody(instrument, seed)
    tempo = float(rng.choice(TEMPI))
    style = Style(
        scatter_ms=float(rng.uniform(5, 14)),
        wander_percent=float(rng.uniform(0.5, 1.5)),
        tuning_cents=float(rng.uniform(-12, 12)),
        vibrato_cents=10.0 if instrument.slug in ("violin", "cello", "flute") else 0.0,
    )
    label = f"{instrument.slug} {source} {room} {seed}"
    take = simulate(expectation, instrument, tempo, style=style, source=source, room=room, seed=seed)
    _count_clean(_hear(take, expectation, instrument, tempo), take, tempo, clean, label)
    faults = _faults(expectation, rng)
    take = simulate(expectation, instrument, tempo, faults=faults, style=style, source=source, room=room, seed=seed + 1)
    _count_faulty(_hear(take, expectation, instrument, tempo), take, faulty, label, verbose)


def _faults(expectation: Expectation, rng: np.random.Generator) -> list[dict[str, Any]]:
    """Wrong and missed notes, well apart, and a hesitation."""
    count = len(expectation.notes)
    places = rng.permutation(np.arange(3, count - 3, 4))[:5]
    kinds: list[dict[str, Any]] = [{"kind": "wrong", "semitones": int(rng.choice([-2, -1, 1, 2]))} for _ in range(2)] + [
        {"kind": "missed"},
        {"kind": "missed"},
    ]
    faults = [{**kind, "note": int(place)} for kind, place in zip(kinds, places, strict=False)]
    return [*faults, {"kind": "hesitation", "note": int(places[-1]), "beats": 1.6}]


def _hear(take: SimulatedTake, expectation: Expectation, instrument: Instrument, tempo: float) -> Analysis:
    samples = soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
    return analyse(Recording(samples=samples), expectation, Targets(tempo_qpm=tempo, instrument=instrument.slug))


def _count_clean(analysis: Analysis, take: SimulatedTake, tempo: float, tally: Tally, label: str) -> None:
    tally.takes += 1
    tally.notes += len(analysis.expectation.notes)
    if analysis.evidence is None:
        tally.findings += len(analysis.expectation.notes)
        tally.worst.append(f"{label}: {analysis.quality.problems}")
        return
    judged = [n for n in analysis.evidence.notes if n.status is not Status.UNCERTAIN]
    tally.judged += len(judged)
    tally.right += sum(n.status is Status.CORRECT for n in judged)
    tally.findings += len(analysis.findings)
    tally.spotless += not analysis.findings
    tally.worst += [f"{label}: {f.text}" for f in analysis.findings]
    played = [n["onset_s"] for n in take.truth["notes"]]
    quarters = [n.onset_quarters for n in analysis.expectation.notes]
    true_tempo = 60 * (quarters[-1] - quarters[0]) / (played[-1] - played[0])
    if analysis.evidence.tempo.played_qpm:
        tally.tempo_errors.append(abs(100 * (analysis.evidence.tempo.played_qpm / true_tempo - 1)))
    onsets = {(n["id"], n["pass"]): n["onset_s"] for n in take.truth["notes"]}
    errors = np.array([1000 * (n.onset_s - onsets[n.note.id, n.note.pass_]) for n in analysis.evidence.notes if n.onset_s is not None])
    # The sound's own attack is the same for all notes of a take: calibrated away.
    tally.onset_errors_ms += np.abs(errors - np.median(errors)).tolist()


def _count_faulty(analysis: Analysis, take: SimulatedTake, tally: Tally, label: str, verbose: bool) -> None:
    tally.takes += 1
    tally.notes += len(analysis.expectation.notes)
    if analysis.evidence is None:
        tally.worst.append(f"{label}: {analysis.quality.problems}")
        return
    truth = {(n["id"], n["pass"]): n for n in take.truth["notes"] if n["id"]}
    for item in analysis.evidence.notes:
        true = truth.get((item.note.id, item.note.pass_))
        wrong = true is None or true["midi"] != true["expected_midi"]
        accused = item.status in (Status.WRONG_PITCH, Status.MISSED)
        tally.planted += wrong
        tally.accused += accused
        tally.found += wrong and accused
        if wrong != accused and verbose:
            tally.worst.append(f"{label} bar {item.note.bar} {item.note.written_pitch}: {item.status} ({item.reason}), true: {true}")


def _sum(tallies: Any) -> Tally:
    total = Tally()
    for tally in tallies:
        for name in total.__dataclass_fields__:
            setattr(total, name, getattr(total, name) + getattr(tally, name))
    return total


def _row(name: str, clean: Tally, faulty: Tally) -> str:
    return (
        f"| {name} | {clean.notes} | {100 * clean.judged / clean.notes:.2f} | {100 * clean.right / max(1, clean.judged):.2f} "
        f"| {200 * clean.findings / clean.notes:.2f} | {max(clean.tempo_errors, default=0):.2f} "
        f"| {np.median(clean.onset_errors_ms or [0]):.1f} / {np.percentile(clean.onset_errors_ms or [0], 95):.1f} "
        f"| {100 * faulty.found / max(1, faulty.planted):.1f} / {100 * faulty.found / max(1, faulty.accused):.1f} |"
    )


if __name__ == "__main__":
    sys.exit(main())
