"""Where the score was cut: notes passed over between two matches, read as whole bars left out where they are.

Where bars are alike, or a bar has few notes, the cheapest alignment may cut in the middle of a bar, or pass the notes over as missed.
The same sounds then stand just as well before or after the cut: it is moved to the nearest bar line, and called a jump if the time
taken is that of the closed-up music rather than of the written one.
"""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from didactor.core.hearing.alignment import INTERVAL_CAP, Alignment, Match, Material

#: What a cut may cost more at a bar line, by pitch and by time (octaves of time, over all that moves), and how many matches it may be
#: moved by.
AS_WELL, IN_TIME, FARTHEST = 0.1, 0.5, 20
#: The closed-up time must be nearer to what was played by this much (octaves of time).
CLEARLY = 0.25


def cut_at_bars(material: Material, alignment: Alignment) -> Alignment:
    """The alignment with its cuts moved to bar lines where the sounds allow it."""
    matches = list(alignment.matches)
    for at in range(1, len(matches)):
        if matches[at].note - matches[at - 1].note > 1:
            _move_cut(material, matches, at, alignment.seconds_per_quarter)
    return replace(alignment, matches=tuple(matches))


def _move_cut(material: Material, matches: list[Match], at: int, seconds_per_quarter: float) -> None:
    """Move the cut before ``matches[at]``, in place; leave it where no bar line is within reach."""
    for shift in sorted(range(-FARTHEST, FARTHEST + 1), key=abs):
        moved = _moved(material, matches, at, shift)
        if moved is None:
            continue
        first, place = moved
        before, after = place[at + shift - 1 - first], place[at + shift - first]
        if not (material.bar_start[before.note + 1] and material.bar_start[after.note]):
            continue
        was = _astray(material, matches[first : first + len(place)], at - first, seconds_per_quarter)
        if _astray(material, place, at + shift - first, seconds_per_quarter) > was + IN_TIME:
            continue  # the same pitches, but not in that rhythm
        played = material.times[after.event] - material.times[before.event]
        written = (material.quarters[after.note] - material.quarters[before.note]) * seconds_per_quarter
        closed = (material.quarters[before.note + 1] - material.quarters[before.note]) * seconds_per_quarter
        away = [abs(float(np.log2(max(played, 1e-3) / max(due, 1e-3)))) for due in (written, closed)]
        if not any(m.jump for m in matches[min(at, at + shift) : max(at, at + shift) + 1]) and away[1] > away[0] - CLEARLY:
            continue
        for k, match in enumerate(place):
            matches[first + k] = replace(match, jump=False)
        matches[at + shift] = replace(matches[at + shift], jump=True)
        return


def _astray(material: Material, matches: list[Match], cut: int, seconds_per_quarter: float) -> float:
    """How far the intervals between matches are from the written ones, in octaves of time, without that over the cut before ``cut``."""
    astray = 0.0
    for k, (before, after) in enumerate(itertools.pairwise(matches), start=1):
        written = (material.quarters[after.note] - material.quarters[before.note]) * seconds_per_quarter
        if k != cut and written > 0 and not (material.untimed[before.note] or material.untimed[after.note]):
            played = max(float(material.times[after.event] - material.times[before.event]), 1e-3)
            astray += min(abs(float(np.log2(played / written))), INTERVAL_CAP)
    return astray


def _moved(material: Material, matches: list[Match], at: int, shift: int) -> tuple[int, list[Match]] | None:
    """The matches around a cut moved by ``shift`` matches, and the index of their first; None where the sounds do not allow it."""
    low, high = min(at, at + shift), max(at, at + shift)
    if low < 1 or high >= len(matches):
        return None
    first_note, last_note = matches[low - 1].note, matches[high].note
    # Up to the cut the notes follow the first of them, after it they lead up to the last.
    place = [replace(matches[low - 1])]
    place += [replace(matches[k], note=first_note + (k - low + 1)) for k in range(low, at + shift)]
    place += [replace(matches[k], note=last_note - (high - k)) for k in range(at + shift, high + 1)]
    if place[at + shift - low + 1].note - place[at + shift - low].note < 2:
        return None
    was = sum(float(material.pair[m.event, m.note]) for m in matches[low - 1 : high + 1])
    is_now = sum(float(material.pair[m.event, m.note]) for m in place)
    return (low - 1, place) if is_now <= was + AS_WELL else None
