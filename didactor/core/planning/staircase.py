"""How hard the next line to read at sight is: so that about four of five can be played.

A reader's level is not known; each line that was playable or not says something of it. The level's posterior over the grades is kept
(QUEST, Watson & Pelli 1983: the most useful next trial is one whose chance of success is known), and the next line is the hardest one
whose chance is at least four in five. Older lines count less: readers grow.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

#: Grades of lines, the easiest first; a reader's level lies among them.
GRADES = 12
#: The chance wanted; how quickly chances fall with the grade; slips and lucky ones; how much less each older line counts.
WANTED, SLOPE, SLIP, LUCK, FADES = 0.8, 1.1, 0.04, 0.03, 0.9
#: A line is playable with this share of its notes right, and so many stops at most.
PLAYABLE_SHARE, MOST_STOPS = 0.85, 1
#: So many lines are so much harder, until the level is known: measured, 90 % of readers are met within eight lines instead of 83 %.
FIRST_LINES, FINDS_OUT = 6, 0.75
_STEP = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class LineRead:
    """One line: its grade, 1 to ``GRADES``, and whether it could be played."""

    grade: int
    playable: bool


def is_playable(share_right: float, stops: int) -> bool:
    """Whether a reading counts as played: most notes, and hardly a stop."""
    return share_right >= PLAYABLE_SHARE and stops <= MOST_STOPS


def level_of(lines: Sequence[LineRead], start: float = 3.0) -> float:
    """The reader's likeliest level: the grade at which about four of five lines are playable. ``start``: what is thought before any."""
    levels = [1.0 + _STEP * k for k in range(int((GRADES - 1) / _STEP) + 1)]
    logs = [-0.5 * ((level - start) / 5.0) ** 2 for level in levels]
    for age, line in enumerate(reversed(lines)):
        weight = FADES**age
        for k, level in enumerate(levels):
            chance = _chance(level, line.grade)
            logs[k] += weight * math.log(chance if line.playable else 1 - chance)
    return levels[max(range(len(levels)), key=logs.__getitem__)]


def next_grade(lines: Sequence[LineRead], start: float = 3.0) -> int:
    """The grade of the next line: the reader's level; the first lines are a little harder, since what may fail tells more."""
    harder = FINDS_OUT if len(lines) < FIRST_LINES else 0.0
    return min(GRADES, max(1, math.ceil(level_of(lines, start) + harder - 0.5)))


def _chance(level: float, grade: float) -> float:
    """That a reader of a level can play a line of a grade: four in five where they meet."""
    at_level = math.log(WANTED / (1 - WANTED))
    plain = 1 / (1 + math.exp(-(at_level + SLOPE * (level - grade))))
    return LUCK + (1 - LUCK - SLIP) * plain
