"""Readers of a known level read eight lines: are they met?"""

from __future__ import annotations

import statistics
from collections.abc import Callable
from typing import Any

import numpy as np

from didactor.core.planning.staircase import LineRead, level_of, next_grade

READERS, LINES, NEAR_GRADES = 1000, 8, 1.5


def staircase(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    """Readers of a known level, who play four of five lines of their own grade, read eight lines."""
    rng = np.random.default_rng((base, 6))
    near, playable = 0, []
    off = []
    for _ in range(READERS):
        level = float(rng.uniform(1.5, 11.5))
        read: list[LineRead] = []
        for number in range(LINES + 8):
            grade = next_grade(read)
            # Steeper and flatter readers than the rule thinks of.
            chance = 1 / (1 + np.exp(-(np.log(4) + float(rng.uniform(0.8, 1.6)) * (level - grade))))
            read.append(LineRead(grade=grade, playable=bool(rng.random() < chance)))
            if number == LINES - 1:
                off.append(level_of(read) - level)
                near += abs(off[-1]) <= NEAR_GRADES
        playable += [line.playable for line in read[LINES:]]
    figures = {
        "readers_met_percent": round(100 * near / READERS, 1),
        "lines_playable_afterwards_percent": round(100 * statistics.mean(playable), 1),
    }
    rows = [
        "| readers | within a grade and a half after eight lines, % | off, grades (median size) | playable of the next eight, % |",
        "|---|---|---|---|",
        f"| {READERS} | {figures['readers_met_percent']} | {statistics.median(abs(o) for o in off):.2f} "
        f"| {figures['lines_playable_afterwards_percent']} |",
    ]
    return rows, figures, []
