"""Students whose clean tempo and weak bars are known record takes and attempts: are the tempo and the segment proposed rightly? Models of
our own, with another law of faults than the rule's: below the clean tempo slips come and go, above it whole places break down.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from didactor.core.planning.carrying import Playing, carried_tempo, segment_to_train

STUDENTS, NEAR = 300, 0.04


def one_tempo(base: int, number: int) -> tuple[float, float]:
    """The clean tempo, and what is proposed, after two to four takes and a week of attempts at three stones."""
    rng = np.random.default_rng((base, 8, number))
    target = float(rng.uniform(60, 132))
    clean = target * float(rng.uniform(0.55, 1.0))
    slips, spread = float(rng.uniform(0.0, 0.008)), float(rng.uniform(0.006, 0.015))
    # Of three stones one is the hardest; the others carry further.
    carries = {"1-2": clean, "3-4": clean * float(rng.uniform(1.08, 1.4)), "5-6": clean * float(rng.uniform(1.08, 1.4))}
    notes = {stone: int(rng.integers(6, 20)) for stone in carries}

    def faults(tempo: float, stone: str) -> int:
        found = int(rng.binomial(notes[stone], slips))
        over = np.log(tempo / carries[stone])
        if rng.random() < 0.9 / (1 + np.exp(-(over - 3 * spread) / spread)):
            found += int(rng.integers(1, 6))
        return min(notes[stone], found)

    playings: list[Playing] = []
    tempo = target
    for _ in range(int(rng.integers(2, 5))):
        playings.append(Playing(tempo=tempo, notes=sum(notes.values()), faults=sum(faults(tempo, stone) for stone in carries)))
        tempo = max(0.5 * target, tempo * float(rng.uniform(0.8, 0.95))) if playings[-1].faults else min(target, tempo * 1.06)
    # Attempts at stones: three failures lead a rung down, two clean ones up.
    for stone in carries:
        at, row = 0.7 * target, 0
        for _ in range(int(rng.integers(15, 40))):
            failed = faults(at, stone)
            playings.append(Playing(tempo=at, notes=notes[stone], faults=min(1, failed), stone=stone))
            row = min(0, row) - 1 if failed else max(0, row) + 1
            if row >= 2 or row <= -3:
                at, row = (min(target, at + 0.05 * target) if row > 0 else max(0.35 * target, at - 0.05 * target)), 0
    found = carried_tempo(playings, target)
    return clean, found.tempo if found else 0.0


def one_segment(base: int, number: int) -> bool:
    """Whether the weak bars are in the segment, with two others at most."""
    rng = np.random.default_rng((base, 9, number))
    bars = [str(k + 1) for k in range(int(rng.integers(8, 17)))]
    weak = int(rng.integers(1, 3))
    first = int(rng.integers(len(bars) - weak + 1))
    rates = rng.uniform(0.0, 0.06, len(bars))
    rates[first : first + weak] = rng.uniform(0.45, 0.9, weak)
    plays = int(rng.integers(3, 9))
    faults = {bar: float(rng.binomial(plays, rate)) for bar, rate in zip(bars, rates, strict=True)}
    found = segment_to_train(bars, faults, dict.fromkeys(bars, float(plays)))
    if found is None:
        return False
    low, high = bars.index(found.first), bars.index(found.last)
    return low <= first and high >= first + weak - 1 and high - low + 1 <= weak + 2


def proposals(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    tempi = each(one_tempo, [(base, k) for k in range(STUDENTS)])
    segments = each(one_segment, [(base, k) for k in range(STUDENTS)])
    off = np.array([found / clean - 1 for clean, found in tempi])
    figures = {
        "proposed_tempo_near_percent": round(100 * float((np.abs(off) <= NEAR).mean()), 1),
        "proposed_segment_right_percent": round(100 * sum(segments) / len(segments), 1),
    }
    rows = [
        "| students | tempo within 4 % | off, % (median size, p95) | too fast by more than 4 % | segment right |",
        "|---|---|---|---|---|",
        f"| {STUDENTS} | {figures['proposed_tempo_near_percent']} % | {100 * np.median(np.abs(off)):.1f}, "
        f"{100 * np.percentile(np.abs(off), 95):.1f} | {100 * float((off > NEAR).mean()):.1f} % "
        f"| {figures['proposed_segment_right_percent']} % |",
    ]
    wrong = [f"clean {clean:.0f} proposed {found:.0f}" for clean, found in tempi if abs(found / clean - 1) > NEAR]
    return rows, figures, wrong
