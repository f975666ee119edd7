"""Readings of one take besides tempo and pulse: hands against each other, loudness by dynamic mark, the entry."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from didactor.core.hearing.hearing import Hearing, Status
from didactor.core.judging.evidence import Apart, Entry, Hand, Hesitation, NoteJudgement, Zone
from didactor.core.score.expected import Expectation

FEWEST_TOGETHER, FEWEST_IN_ZONE = 4, 3
FEWEST_IN_BAR = 2
FEWEST_FOR_BALANCE, FEWEST_FOR_CLEARNESS = 2, 5


def read_hands(notes: Sequence[NoteJudgement], expectation: Expectation) -> tuple[Hand, ...] | None:
    """Onsets of each staff against the other, over the moments where both begin; None for one staff or too few moments."""
    staves = sorted({n.staff for n in expectation.notes})
    if len(staves) != 2:
        return None
    by_moment: dict[float, dict[int, list[float]]] = {}
    for item in notes:
        if item.status is Status.CORRECT and item.onset_s is not None and not item.note.grace:
            by_moment.setdefault(item.note.onset_quarters, {}).setdefault(item.note.staff, []).append(item.onset_s)
    together = [m for m in by_moment.values() if len(m) == 2]
    if len(together) < FEWEST_TOGETHER:
        return None
    balance_db, clearer = _balance(notes, staves[0])
    hands = []
    for staff, other in (staves, staves[::-1]):
        apart = np.array([1000 * (np.median(m[staff]) - np.median(m[other])) for m in together])
        placed = [n.early_late_ms for n in notes if n.note.staff == staff and n.early_late_ms is not None]
        hands.append(
            Hand(
                staff=staff,
                asynchrony_ms=float(np.median(apart)),
                early_late_ms=float(np.median(placed)) if placed else 0.0,
                spread_ms=float(1.4826 * np.median(np.abs(apart - np.median(apart)))),
                together=len(together),
                balance_db=None if balance_db is None else balance_db if staff == staves[0] else -balance_db,
                clearer=None if clearer is None else clearer if staff == staves[0] else -clearer,
            )
        )
    return tuple(hands)


def _balance(notes: Sequence[NoteJudgement], upper_staff: int) -> tuple[float | None, float | None]:
    """The upper staff's highest note against the lower staff, over the moments where both begin: how much louder it is than the
    loudest (dB, where both are heard apart), and how much more clearly it begins than the clearest.
    """
    moments: dict[float, list[NoteJudgement]] = {}
    for item in notes:
        if item.status is Status.CORRECT and not item.note.grace:
            moments.setdefault(item.note.onset_quarters, []).append(item)
    louder, clearer = [], []
    for moment in moments.values():
        upper = [n for n in moment if n.note.staff == upper_staff]
        lower = [n for n in moment if n.note.staff != upper_staff]
        if not upper or not lower:
            continue
        top = max(upper, key=lambda n: n.note.sounding_midi)
        lower_db = [n.own_db for n in lower if n.own_db is not None]
        if top.own_db is not None and lower_db:
            louder.append(top.own_db - max(lower_db))
        if top.clearness is not None:
            clearer.append(top.clearness - max(n.clearness or 0.0 for n in lower))
    return (
        float(np.median(louder)) if len(louder) >= FEWEST_FOR_BALANCE else None,
        float(np.median(clearer)) if len(clearer) >= FEWEST_FOR_CLEARNESS else None,
    )


def read_zones(notes: Sequence[NoteJudgement]) -> tuple[Zone, ...] | None:
    """Stretches under one dynamic mark with their median level; None where nothing is marked or no levels are known."""
    zones: list[list[NoteJudgement]] = []
    for item in notes:
        if item.note.dynamics is None or item.loudness_db is None or item.status is not Status.CORRECT:
            continue
        if zones and zones[-1][0].note.dynamics == item.note.dynamics:
            zones[-1].append(item)
        else:
            zones.append([item])
    found = [
        Zone(
            from_bar=zone[0].note.bar,
            to_bar=zone[-1].note.bar,
            marked=zone[0].note.dynamics or "",
            db=float(np.median([n.loudness_db for n in zone if n.loudness_db is not None])),
            notes=len(zone),
        )
        for zone in zones
        if len(zone) >= FEWEST_IN_ZONE
    ]
    return tuple(found) or None


@dataclass(frozen=True, slots=True, kw_only=True)
class Opening:
    """When the passage was due to begin, by count-off or accompaniment: its very start (an anacrusis included), and the pace there.

    ``goes_on``: an accompaniment keeps that pace to the end.
    """

    start_s: float
    quarter_s: float
    goes_on: bool = False


def opening_after(clicks_s: Sequence[float], expectation: Expectation) -> Opening | None:
    """The opening that a count-off leads to: its pulses are beats, and the first full bar comes one beat after the last."""
    if len(clicks_s) < 2 or not expectation.bars:
        return None
    beat_s = (clicks_s[-1] - clicks_s[0]) / (len(clicks_s) - 1)
    quarter_s = beat_s / expectation.bars[0].beat_quarters
    return Opening(start_s=clicks_s[-1] + beat_s - expectation.pickup_quarters * quarter_s, quarter_s=quarter_s)


def read_entry(hearing: Hearing, expectation: Expectation, opening: Opening | None) -> Entry | None:
    """The first note against where it was due; None where nobody knows when, or it was not heard."""
    if opening is None or not expectation.notes:
        return None
    first, heard = expectation.notes[0], hearing.notes[0]
    if heard.onset_s is None or not heard.timed:
        return None
    quarter_s = opening.quarter_s
    due_s = opening.start_s + first.onset_quarters * quarter_s
    # Of two readings of a slow beginning, the one that speaks for the player.
    onset_s = min((t for t in (heard.onset_s, heard.began_s) if t is not None), key=lambda t: abs(t - due_s))
    return Entry(early_late_quarters=(onset_s - due_s) / quarter_s, due_s=due_s, time_s=onset_s)


def read_apart(
    notes: Sequence[NoteJudgement],
    expectation: Expectation,
    opening: Opening | None,
    entry: Entry | None,
    hesitations: Sequence[Hesitation],
) -> tuple[Apart, ...] | None:
    """Every bar against the accompaniment's own time; None without one.

    By how much the player entered late, and every pause since, is said by itself: of what a bar is off, only the rest is told here, and
    nothing of a bar that lies between the two (somebody who catches up is not early).
    """
    if opening is None or not opening.goes_on or entry is None:
        return None
    found = []
    for bar in expectation.bars:
        here = [n for n in notes if n.timed and n.onset_s is not None and (n.note.bar, n.note.pass_) == (bar.number, bar.pass_)]
        off = [n.onset_s - opening.start_s - n.note.onset_quarters * opening.quarter_s for n in here if n.onset_s is not None]
        if len(off) < FEWEST_IN_BAR:
            continue
        late_s, begins_s = float(np.median(off)), min(n.onset_s or 0.0 for n in here)
        known_s = entry.early_late_quarters * opening.quarter_s + sum(h.extra_s for h in hesitations if h.time_s < begins_s)
        rest_s = late_s - float(np.clip(late_s, min(0.0, known_s), max(0.0, known_s)))
        beats = rest_s / (opening.quarter_s * bar.beat_quarters)
        found.append(Apart(bar=bar.number, pass_=bar.pass_, beats=beats, late_s=rest_s, time_s=begins_s))
    return tuple(found)
