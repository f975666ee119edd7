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
from didactor.core.sound.player.expression import CELL_QUARTERS, Expression, bent

PULSE_MEMORY = 0.8
VELOCITIES = {"pp": 45, "p": 56, "mp": 66, "mf": 76, "f": 90, "ff": 104}
#: How far a hairpin goes, in velocity.
HAIRPIN = 22
LEGATO_SHARE, DETACHED_SHARE, STACCATO_SHARE = 1.0, 0.88, 0.45


@dataclass(frozen=True, slots=True, kw_only=True)
class Style:
    """How human the player is: standard deviations of onsets (``scatter_ms``), of the beat period (``wander_percent``), of a
    note's tuning (``note_cents``) and within a chord (``chord_spread_ms``; Goebl 2001 found 5-10 ms within one hand). ``expression``:
    what is meant rather than left to chance; None for a player who only keeps time.
    """

    scatter_ms: float = 8.0
    wander_percent: float = 1.0
    tuning_cents: float = 0.0
    note_cents: float = 4.0
    vibrato_cents: float = 0.0
    chord_spread_ms: float = 7.0
    expression: Expression | None = None


#: The two ends of the human range: a beginner's unsteady hand, and a virtuoso who bends the pulse but not by chance.
BEGINNER = Style(scatter_ms=28.0, wander_percent=3.0, note_cents=12.0, chord_spread_ms=16.0)
VIRTUOSO = Style(scatter_ms=4.0, wander_percent=2.0, note_cents=2.0, vibrato_cents=18.0, chord_spread_ms=5.0)
STYLES = {"trained": Style(), "beginner": BEGINNER, "virtuoso": VIRTUOSO}


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
    duration_quarters: float = 1.0
    staff: int = 1
    stroke: bool = False
    chord: str | None = None


def perform(
    expectation: Expectation, instrument: Instrument, tempo_qpm: float, style: Style, rng: np.random.Generator, start_s: float = 0.8
) -> list[PerformedNote]:
    """A faultless performance with human timing at ``tempo_qpm`` quarters per minute, beginning at ``start_s``."""
    times = _Clock(expectation, tempo_qpm, style, rng, start_s)
    notes: list[PerformedNote] = []
    scatter = _Scatter(style, rng)
    lead = _lead_s(expectation, style.expression)
    for note in expectation.notes:
        onset = times.at(note.onset_quarters) + scatter.of(note) - lead.get((note.onset_quarters, note.staff, note.sounding_midi), 0.0)
        end = times.at(_released(note, expectation, style.expression, instrument))
        share = _share(note, style.expression)
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
                velocity=_velocity(note, expectation, rng),
                expected_midi=note.sounding_midi,
                quarters=note.onset_quarters,
                duration_quarters=note.duration_quarters,
                staff=note.staff,
                stroke=note.unpitched,
            )
        )
        before = next((n for n in reversed(notes[:-1]) if n.staff == note.staff), None)
        if before is not None:
            notes[-1] = _keep_order(before, notes[-1])
    return sorted(notes, key=lambda n: (n.quarters, n.onset_s)) if len({n.staff for n in notes}) > 1 else notes


def _share(note: ExpectedNote, expression: Expression | None) -> float:
    """Sounding over written length."""
    if "staccato" in note.articulations:
        return STACCATO_SHARE
    return LEGATO_SHARE if note.slurred_to_next else expression.touch if expression else DETACHED_SHARE


def _released(note: ExpectedNote, expectation: Expectation, expression: Expression | None, instrument: Instrument) -> float:
    """Score position at which a note ends: its own end, or the next bar where the pedal holds it."""
    end = note.onset_quarters + note.duration_quarters
    if expression is None or not expression.pedal or instrument.family != "keys":
        return end
    bar = expectation.bar_at(note.onset_quarters)
    return max(end, bar.start_quarters + bar.length_quarters)


def _lead_s(expectation: Expectation, expression: Expression | None) -> dict[tuple[float, int, int], float]:
    """How much the uppermost note of each moment comes before the others: by (onset, staff, pitch), seconds."""
    if expression is None:
        return {}
    moments: dict[float, list[ExpectedNote]] = {}
    for note in expectation.notes:
        moments.setdefault(note.onset_quarters, []).append(note)
    tops = (max(notes, key=lambda n: n.sounding_midi) for notes in moments.values() if len(notes) > 1)
    return {(n.onset_quarters, n.staff, n.sounding_midi): expression.lead_ms / 1000 for n in tops}


class _Scatter:
    """One deviation for what a hand plays together, and a little of its own for each note of a chord."""

    def __init__(self, style: Style, rng: np.random.Generator) -> None:
        self._style, self._rng = style, rng
        self._hands: dict[tuple[int, float], float] = {}

    def of(self, note: ExpectedNote) -> float:
        key = (note.staff, note.onset_quarters)
        if key not in self._hands:
            self._hands[key] = float(self._rng.normal(0.0, self._style.scatter_ms / 1000.0))
            return self._hands[key]
        return self._hands[key] + abs(float(self._rng.normal(0.0, self._style.chord_spread_ms / 1000.0)))


def _keep_order(before: PerformedNote, note: PerformedNote) -> PerformedNote:
    """Scatter never makes one hand's notes change places."""
    if note.quarters > before.quarters and note.onset_s < before.onset_s + 0.03:
        return replace(note, onset_s=before.onset_s + 0.03, offset_s=max(note.offset_s, before.onset_s + 0.08))
    return note


def _velocity(note: ExpectedNote, expectation: Expectation, rng: np.random.Generator) -> int:
    accent = 6 if note.beat == 0 else 2 if note.beat == int(note.beat) else 0
    accent += 12 if "accent" in note.articulations else 0
    level = VELOCITIES.get(note.dynamics or "mf", 76)
    for hairpin in expectation.hairpins:
        length = hairpin.end_quarters - hairpin.begin_quarters
        if hairpin.begin_quarters - 1e-6 <= note.onset_quarters < hairpin.end_quarters and length > 0:
            level += round((HAIRPIN if hairpin.growing else -HAIRPIN) * (note.onset_quarters - hairpin.begin_quarters) / length)
    return int(np.clip(level + accent + rng.normal(0, 3), 25, 120))


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
        if style.expression is not None:
            grid = np.arange(0.0, beats + 1e-9, CELL_QUARTERS)
            even = np.diff(np.interp(grid, self._grid, self._times))
            own = even * bent(expectation, style.expression, len(even), rng)
            self._grid, self._times = grid, start_s + np.concatenate(([0.0], np.cumsum(own)))

    def at(self, quarters: float) -> float:
        return float(np.interp(quarters, self._grid, self._times))
