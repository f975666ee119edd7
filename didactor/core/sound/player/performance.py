"""Expected notes to a performance with human timing.

Onsets scatter around a slowly wandering beat: an independent part for each note and a first-order autoregressive drift of
the beat period, the two components found in tapping and playing (Wing & Kristofferson 1973); sizes for trained players
are 10-30 ms and 1-3 % of the beat (Repp 2005). Note lengths and loudness follow articulation and metre.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation, ExpectedNote

PULSE_MEMORY = 0.8
VELOCITIES = {"pp": 45, "p": 56, "mp": 66, "mf": 76, "f": 90, "ff": 104}
LEGATO_SHARE, DETACHED_SHARE, STACCATO_SHARE = 1.0, 0.88, 0.45


@dataclass(frozen=True, slots=True, kw_only=True)
class Style:
    """How human the player is. ``scatter_ms`` per note (standard deviation), ``wander_percent`` of the beat period."""

    scatter_ms: float = 8.0
    wander_percent: float = 1.0
    tuning_cents: float = 0.0
    note_cents: float = 4.0
    vibrato_cents: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class PerformedNote:
    """One sound. ``id`` is the expected note's, or empty for a sound that is not in the score. ``pass_`` as expected."""

    id: str
    pass_: int
    onset_s: float
    offset_s: float
    midi: int
    cents: float
    velocity: int
    expected_midi: int | None
    quarters: float


def perform(
    expectation: Expectation, instrument: Instrument, tempo_qpm: float, style: Style, rng: np.random.Generator, start_s: float = 0.8
) -> list[PerformedNote]:
    """A faultless performance with human timing at ``tempo_qpm`` quarters per minute, beginning at ``start_s``."""
    times = _Clock(expectation, tempo_qpm, style, rng, start_s)
    notes = []
    for index, note in enumerate(expectation.notes):
        onset = times.at(note.onset_quarters) + float(rng.normal(0.0, style.scatter_ms / 1000.0))
        end = times.at(note.onset_quarters + note.duration_quarters)
        share = STACCATO_SHARE if "staccato" in note.articulations else LEGATO_SHARE if note.slurred_to_next else DETACHED_SHARE
        if note.grace:
            onset, end, share = onset - 0.09, onset, 1.0
        notes.append(
            PerformedNote(
                id=note.id,
                pass_=note.pass_,
                onset_s=onset,
                offset_s=max(onset + 0.05, onset + share * (end - onset)),
                midi=note.sounding_midi,
                cents=style.tuning_cents + (float(rng.normal(0.0, style.note_cents)) if instrument.bends else 0.0),
                velocity=_velocity(note, rng),
                expected_midi=note.sounding_midi,
                quarters=note.onset_quarters,
            )
        )
        if index:
            notes[-1] = _keep_order(notes[-2], notes[-1])
    return notes


def _keep_order(before: PerformedNote, note: PerformedNote) -> PerformedNote:
    """Scatter never makes one voice's notes change places."""
    if note.quarters > before.quarters and note.onset_s < before.onset_s + 0.03:
        return replace(note, onset_s=before.onset_s + 0.03, offset_s=max(note.offset_s, before.onset_s + 0.08))
    return note


def _velocity(note: ExpectedNote, rng: np.random.Generator) -> int:
    accent = 6 if note.beat == 0 else 2 if note.beat == int(note.beat) else 0
    accent += 12 if "accent" in note.articulations else 0
    return int(np.clip(VELOCITIES.get(note.dynamics or "mf", 76) + accent + rng.normal(0, 3), 25, 120))


class _Clock:
    """Score position to seconds through beat periods that wander slowly."""

    def __init__(self, expectation: Expectation, tempo_qpm: float, style: Style, rng: np.random.Generator, start_s: float) -> None:
        beats = int(np.ceil(expectation.length_quarters)) + 2
        deviation, periods = 0.0, []
        for _ in range(beats):
            deviation = PULSE_MEMORY * deviation + float(rng.normal(0.0, style.wander_percent / 100.0)) * np.sqrt(1 - PULSE_MEMORY**2)
            periods.append(60.0 / tempo_qpm * (1.0 + deviation))
        # The wander must not shift the mean tempo, which the truth states.
        used = max(1, round(expectation.length_quarters))
        periods = [p * (60.0 / tempo_qpm) / float(np.mean(periods[:used])) for p in periods]
        self._grid = np.arange(beats + 1, dtype=float)
        self._times = start_s + np.concatenate(([0.0], np.cumsum(periods)))

    def at(self, quarters: float) -> float:
        return float(np.interp(quarters, self._grid, self._times))
