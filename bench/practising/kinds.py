"""Students with a fault of a known kind practise a stone: is the kind named? Models of our own."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from didactor.core.practising.kinds import FaultKind, Place, Try, read_kind

STUDENTS = 200
KINDS = tuple(FaultKind)
NOTES = tuple(f"n{k}" for k in range(8))


def practised(rng: np.random.Generator, kind: FaultKind) -> FaultKind | None:
    """A student whose fault is of one kind practises until it is named, 18 attempts at most: three at the tempo, three slower, and so
    on in turn, as the crossing leads them. None where nothing was named.
    """
    at = NOTES[int(rng.integers(1, len(NOTES)))]
    fails, clean, slips = float(rng.uniform(0.6, 0.95)), float(rng.uniform(0.0, 0.08)), float(rng.uniform(0.0, 0.03))
    limit = float(rng.uniform(0.78, 0.97))
    place = Place(
        bar="6",
        after_rest=kind is FaultKind.AFTER_REST,
        at_seam=kind is FaultKind.JOIN,
        like="2" if kind is FaultKind.CARRIED_OVER or rng.random() < 0.15 else "",
    )
    tempi = [1.0, 1.0, 1.0, 0.72, 0.72, 0.72, 0.8, 0.9, 1.0, 1.0, 0.72, 0.72, 0.9, 1.0, 1.0, 0.85, 1.0, 1.0]
    # A join is played when both its sides are firm: those attempts were at the tempo, and alone.
    tries = [Try(tempo=100.0) for _ in range(3)] if place.at_seam else []
    carried: list[str] = []
    for tempo in tempi:
        joined = place.at_seam
        bad = {
            FaultKind.EVERY_TEMPO: fails,
            FaultKind.FAST: fails if tempo > limit else clean,
            FaultKind.JOIN: fails,
            FaultKind.AFTER_REST: fails,
            FaultKind.CARRIED_OVER: fails,
        }[kind]
        failed = [note for note in NOTES if rng.random() < (bad if note == at else slips)]
        if kind is FaultKind.CARRIED_OVER and at in failed and rng.random() < 0.85:
            carried.append(at)
        tries.append(Try(tempo=100 * tempo, failed=tuple(failed), joined=joined))
        reading = read_kind(tries, {at: place}, carried)
        if reading is not None and reading.kind is not None:
            return reading.kind
    return None


def kinds(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    rows = ["| fault | students | named rightly | as another | not named |", "|---|---|---|---|---|"]
    right = silent = slower = component = 0
    for k, kind in enumerate(KINDS):
        told = [practised(np.random.default_rng((base, 2, k, i)), kind) for i in range(STUDENTS // len(KINDS))]
        good, nothing = sum(t is kind for t in told), sum(t is None for t in told)
        right, silent = right + good, silent + nothing
        if kind is not FaultKind.FAST:
            component, slower = component + len(told), slower + sum(t is FaultKind.FAST for t in told)
        rows.append(f"| {kind.value.replace('_', ' ')} | {len(told)} | {good} | {len(told) - good - nothing} | {nothing} |")
    figures = {
        "kinds_right_percent": round(100 * right / STUDENTS, 1),
        "kinds_silent_percent": round(100 * silent / STUDENTS, 1),
        "slower_for_a_component_percent": round(100 * slower / component, 1),
    }
    return rows, figures, []
