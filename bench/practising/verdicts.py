"""Attempts at stones of one to four bars, by instrument, room and fault: are they judged rightly?"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

import numpy as np

from didactor.core.analyse import analyse
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.practising.verdict import verdict
from didactor.core.sound.player.take import simulate
from practising.common import INSTRUMENTS, ROOMS, SOURCES, music, recording

COUNT = 300


def verdict_case(base: int, number: int) -> tuple[str, str, str]:
    """What was planted (``clean``, ``wrong``, ``missed``), what the verdict was, and a line about it."""
    rng = np.random.default_rng((base, number))
    slug = INSTRUMENTS[number % len(INSTRUMENTS)]
    expectation, tempo = music(rng, slug, base + number), float(rng.choice([54.0, 66.0, 80.0, 96.0]))
    kind = ("clean", "wrong", "clean", "missed")[(number // len(INSTRUMENTS)) % 4]
    at = int(rng.integers(len(expectation.notes)))
    faults: list[dict[str, Any]] = []
    if kind == "wrong":
        faults = [{"kind": "wrong", "note": at, "semitones": int(rng.choice([-3, -2, -1, 1, 2, 3]))}]
    elif kind == "missed":
        faults = [{"kind": "missed", "note": at}]
    take = simulate(
        expectation, BY_SLUG[slug], tempo, faults=faults, source=SOURCES[int(rng.integers(2))], room=ROOMS[number % 3], seed=base + number
    )
    found = verdict(analyse(recording(take.samples), expectation, Targets(tempo_qpm=tempo, instrument=slug, stage="steady")), "notes")
    return kind, found.outcome.value, f"{number} {slug}, {len(expectation.notes)} notes, {faults}: {found.outcome.value} {found.says}"


def verdicts(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    found = each(verdict_case, [(base, k) for k in range(COUNT)])
    count = Counter((("clean" if kind == "clean" else "faulty"), outcome) for kind, outcome, _ in found)
    clean, faulty = (sum(n for (kind, _), n in count.items() if kind == wanted) for wanted in ("clean", "faulty"))
    figures = {
        "faultless_refused_percent": round(100 * count["clean", "fault"] / clean, 1),
        "faultless_not_told_percent": round(100 * count["clean", "unsure"] / clean, 1),
        "faulty_accepted_percent": round(100 * count["faulty", "clean"] / faulty, 1),
        "faulty_not_told_percent": round(100 * count["faulty", "unsure"] / faulty, 1),
    }
    rows = ["| attempts | | accepted | refused | not told |", "|---|---|---|---|---|"]
    for kind, total in (("clean", clean), ("faulty", faulty)):
        outcomes = " | ".join(str(count[kind, o]) for o in ("clean", "fault", "unsure"))
        rows.append(f"| {'faultless' if kind == 'clean' else 'one wrong or missed note'} | {total} | {outcomes} |")
    wrong = [line for kind, outcome, line in found if (outcome == "clean") != (kind == "clean")]
    return rows, figures, wrong
