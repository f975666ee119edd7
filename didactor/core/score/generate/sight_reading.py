"""Melodies to be read at sight: mostly steps within a small range, leaps that turn back, phrases that come to rest.

The statistics follow what is known of melodies: steps are more frequent than leaps, large leaps are followed by motion the other
way, phrases arch and close on the tonic (Huron 2006).
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from didactor.core.score.generate.layout import bar_length, lay_out
from didactor.core.score.generate.rhythm_lines import bar_of_rhythm
from didactor.core.words import _


@dataclass(frozen=True, slots=True, kw_only=True)
class Level:
    """``reach``: half the span in degrees; ``leaps``: how likely, and how far at most in degrees."""

    title: str
    reach: int
    leaps: float
    furthest: int


LEVELS = {
    "beginner": Level(title=_("Beginner"), reach=2, leaps=0.1, furthest=2),
    "elementary": Level(title=_("Elementary"), reach=4, leaps=0.2, furthest=3),
    "intermediate": Level(title=_("Intermediate"), reach=5, leaps=0.3, furthest=5),
    "advanced": Level(title=_("Advanced"), reach=7, leaps=0.4, furthest=7),
}


def sight_reading(names: Sequence[str], bars: int, beats: int, beat_type: int, level: str, seed: int) -> str:
    """A melody on a ladder of at least eight names (its tonic first) as the text of a ``Line``.

    The first phrase comes back, changed at its end, where there is room for it: readers look for what returns.
    """
    rng = random.Random(f"sight {level} {beats}/{beat_type} {bars} {seed} {names[0]}")
    rules = LEVELS[level]
    high = min(len(names) - 1, 2 * rules.reach)
    rhythms = [bar_of_rhythm(beats, beat_type, level, rng) for _ in range(bars - 1)]
    if bars >= 8:
        rhythms[4], rhythms[5] = list(rhythms[0]), list(rhythms[1])
    degree, leapt = 0, 0
    melody: list[list[tuple[str, Fraction, str]]] = []
    for number, rhythm in enumerate(rhythms):
        bar: list[tuple[str, Fraction, str]] = []
        if bars >= 8 and number in (4, 5):
            melody.append(list(melody[number - 4]))
            degree = next((names.index(n) for n, _, _ in reversed(melody[-1]) if n != "r"), 0)
            continue
        for sounds, length in rhythm:
            if not sounds and (number or bar):
                bar.append(("r", length, ""))
                continue
            bar.append((names[degree], length, ""))
            degree, leapt = _next_degree(degree, leapt, high, rules, rng)
        melody.append(bar)
    ending = 0 if degree <= 4 else 7
    melody.append([(names[ending], bar_length(beats, beat_type), "")])
    return " | ".join(lay_out(bar, beats, beat_type) for bar in melody)


def _next_degree(degree: int, leapt: int, high: int, rules: Level, rng: random.Random) -> tuple[int, int]:
    """The next degree, and the leap just made (0 after a step)."""
    if leapt:
        step = -1 if leapt > 0 else 1
        return min(high, max(0, degree + step)), 0
    if rng.random() < rules.leaps:
        size = rng.randint(2, rules.furthest)
        direction = 1 if degree < high - degree else -1
        target = degree + direction * size
        if 0 <= target <= high:
            return target, direction * size
    # Steps lean towards the middle, so that the line arches.
    up = rng.random() < 0.5 + 0.35 * (high / 2 - degree) / max(1.0, high / 2)
    target = degree + (1 if up else -1)
    if not 0 <= target <= high:
        target = degree + (-1 if up else 1)
    return target, 0
