"""Lines to be read at sight, by grade: from four bars of steps to eight bars with many signs in uncommon metres."""

from __future__ import annotations

import itertools
import random
from dataclasses import dataclass
from typing import Any

from didactor.core.errors import PassageError
from didactor.core.score.generate.exercise import KINDS
from didactor.core.words import worded


@dataclass(frozen=True, slots=True, kw_only=True)
class Grade:
    """``keys``: tonics of major keys; ``tempo``: quarters a minute that are asked for."""

    level: str
    bars: int
    keys: tuple[str, ...]
    metres: tuple[str, ...]
    tempo: int


_FEW, _SOME, _MORE, _MANY = ("C", "G", "F"), ("C", "G", "F", "D", "Bb"), ("G", "F", "D", "Bb", "A", "Eb"), ("D", "Bb", "A", "Eb", "E", "Ab")
GRADES: tuple[Grade, ...] = (
    Grade(level="beginner", bars=4, keys=("C",), metres=("4/4",), tempo=60),
    Grade(level="beginner", bars=4, keys=_FEW, metres=("4/4", "3/4"), tempo=60),
    Grade(level="beginner", bars=8, keys=_FEW, metres=("4/4", "3/4"), tempo=66),
    Grade(level="elementary", bars=4, keys=_FEW, metres=("4/4", "3/4"), tempo=66),
    Grade(level="elementary", bars=8, keys=_SOME, metres=("4/4", "3/4", "2/4"), tempo=69),
    Grade(level="elementary", bars=8, keys=_MORE, metres=("4/4", "3/4", "6/8"), tempo=72),
    Grade(level="intermediate", bars=4, keys=_SOME, metres=("4/4", "3/4"), tempo=69),
    Grade(level="intermediate", bars=8, keys=_SOME, metres=("4/4", "3/4", "6/8"), tempo=72),
    Grade(level="intermediate", bars=8, keys=_MORE, metres=("4/4", "6/8", "2/2"), tempo=76),
    Grade(level="advanced", bars=4, keys=_SOME, metres=("4/4", "3/4"), tempo=69),
    Grade(level="advanced", bars=8, keys=_MORE, metres=("4/4", "6/8", "9/8"), tempo=72),
    Grade(level="advanced", bars=8, keys=_MANY, metres=("4/4", "9/8", "5/4"), tempo=76),
)
#: What a reader's own faults may ask more of: more leaps (another pitch), or a livelier rhythm.
TROUBLES = ("notes", "rhythm")


def graded_line(grade: int, seed: int, *, hands: int = 1, trouble: str = "") -> tuple[str, dict[str, Any], int]:
    """The kind and choices of an exercise, and its tempo (quarters a minute).

    Args:
        grade: 1 to ``len(GRADES)``.
        hands: 2 for instruments that are read on two staves.
        trouble: what this reader often gets wrong; of several lines of the grade the one with most of it is taken.

    Raises:
        PassageError: no such grade.
    """
    if not 1 <= grade <= len(GRADES):
        raise PassageError("reading.grade", worded("There is no grade {grade}.", grade=grade))
    rules = GRADES[grade - 1]
    rng = random.Random(f"graded {grade} {hands} {seed}")
    kind = "sight_reading" if hands == 1 else "sight_reading_two_hands"
    fixed = {"bars": rules.bars, "level": rules.level, "tonic": rng.choice(rules.keys), "metre": rng.choice(rules.metres)}
    seeds = [seed * 10 + k for k in range(1 if trouble not in TROUBLES else 4)]
    best = max(seeds, key=lambda one: _much_of(trouble, kind, {**fixed, "seed": one}))
    return kind, {**fixed, "seed": best}, rules.tempo


def _much_of(trouble: str, kind: str, choices: dict[str, Any]) -> float:
    """How much of what a reader gets wrong a line has: leaps, or changes of value."""
    tokens: list[list[str]] = [token.split(":") for token in KINDS[kind](**choices).line().text.replace("|", " ").split() if ":" in token]
    if trouble == "rhythm":
        return sum(a[1] != b[1] for a, b in itertools.pairwise(tokens)) / max(1, len(tokens))
    letters = [("CDEFGAB".index(t[0][0]) + 7 * int(t[0].rstrip("~")[-1])) for t in tokens if t[0][0] in "CDEFGAB"]
    return sum(abs(a - b) > 1 for a, b in itertools.pairwise(letters)) / max(1, len(letters))
