"""What pairs of one voice cost: events of one pitch each against written notes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.hearing.alignment import TEMPO_GUESSES, Alignment, Material
from didactor.core.hearing.events import Event
from didactor.core.hearing.repeats import align_repeats
from didactor.core.score.expected import ExpectedNote

#: All costs are in missed notes; chosen on the fit set so that a wrong note is cheaper than a missed and an extra one.
MISSED_COST, GRACE_MISSED_COST = 1.0, 0.15
#: A repeated pitch is often not heard apart from the note before (legato, a room's tail).
REPEAT_MISSED_COST = 0.4
EXTRA_COST, SOFT_EXTRA_COST, SAME_PITCH_EXTRA_COST, SLIVER_EXTRA_COST = 0.9, 0.06, 0.3, 0.35
OCTAVE_COST, NEAR_WRONG_COST, FAR_WRONG_COST = 0.45, 0.9, 1.25
#: A note beginning with a soft split is less likely than one beginning with an onset.
SOFT_PAIR_COST = 0.12
SLIVER_S = 0.07


def align_line(
    events: Sequence[Event], notes: Sequence[ExpectedNote], seconds_per_quarter: float, guesses: Sequence[float] = TEMPO_GUESSES
) -> Alignment:
    """Align events (in order of time; may be empty) with notes in performed order (at least one)."""
    material = Material(
        times=np.array([e.onset_s for e in events]),
        extra=np.array([_extra_cost(e, events[i - 1] if i else None) for i, e in enumerate(events)]),
        soft=np.array([e.soft for e in events], dtype=bool),
        quarters=np.array([n.onset_quarters for n in notes]),
        missed=np.array([_missed_cost(n, notes[i - 1] if i else None) for i, n in enumerate(notes)]),
        untimed=np.array([n.grace for n in notes]),
        bar_start=np.array([i == 0 or (n.bar, n.pass_) != (notes[i - 1].bar, notes[i - 1].pass_) for i, n in enumerate(notes)]),
        pair=_pair_costs(events, notes),
    )
    again = np.array([n.pass_ > 1 for n in notes])
    return align_repeats(material, again, seconds_per_quarter, guesses)


def _pair_costs(events: Sequence[Event], notes: Sequence[ExpectedNote]) -> FloatArray:
    """What each event costs as each note, by its pitch and how it begins; shape (events, notes)."""
    heard = np.array([e.midi for e in events], dtype=float)[:, None]
    distance = np.abs(heard - np.array([n.sounding_midi for n in notes], dtype=float)[None, :])
    for index, note in enumerate(notes):
        for pitch in note.alternatives:
            distance[:, index] = np.minimum(distance[:, index], np.abs(heard[:, 0] - pitch))
    cost = np.where(distance <= 2, NEAR_WRONG_COST, FAR_WRONG_COST)
    cost[(distance == 12) | (distance == 24)] = OCTAVE_COST
    cost[distance == 0] = 0.0
    return np.asarray(cost + np.array([SOFT_PAIR_COST if e.soft else 0.0 for e in events])[:, None])


def _missed_cost(note: ExpectedNote, before: ExpectedNote | None) -> float:
    if note.grace or note.optional:
        return GRACE_MISSED_COST
    return REPEAT_MISSED_COST if before is not None and before.sounding_midi == note.sounding_midi else MISSED_COST


def _extra_cost(event: Event, before: Event | None) -> float:
    if event.soft:
        return SOFT_EXTRA_COST
    touching = before is not None and event.onset_s - before.offset_s < 0.05
    if touching and before is not None and before.midi == event.midi:
        return SAME_PITCH_EXTRA_COST
    if event.duration_s < SLIVER_S or event.voicing < 0.5:
        return SLIVER_EXTRA_COST
    return EXTRA_COST
