"""Events laid over expected notes, with jumps.

Dynamic programming over pairs (event, note). A pair costs what its pitches differ by; going from one pair to the next costs
what lies between them: events passed over (extra), notes passed over (missed), and how far the played interval is from the
written one at the current tempo. Jumps back (restarts) and far ahead (skipped bars) cost a fixed amount, so that they win only
against several missed or extra notes. The tempo starts from several guesses; the cheapest alignment's own tempo is used for
the last pass.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from didactor.core.hearing.events import Event
from didactor.core.score.expected import ExpectedNote
from didactor.core.units import FloatArray

MISSED_COST, GRACE_MISSED_COST = 1.0, 0.15
#: A repeated pitch is often not heard apart from the note before (legato, a room's tail).
REPEAT_MISSED_COST = 0.4
EXTRA_COST, SOFT_EXTRA_COST, SAME_PITCH_EXTRA_COST, SLIVER_EXTRA_COST = 0.9, 0.06, 0.3, 0.35
OCTAVE_COST, NEAR_WRONG_COST, FAR_WRONG_COST = 0.45, 0.9, 1.25
JUMP_COST = 2.2
#: Players go back, and on, to the beginning of a bar; landing elsewhere costs this much more.
MID_BAR_LANDING_COST = 0.4
#: Before the first and after the last match, sounds cost this share of what they cost between; many notes not played there
#: cost little more than a jump, and less than a wrong note and a jump.
EDGE_EXTRA_SHARE, EDGE_MISSED_SHARE, EDGE_MISSED_MOST = 0.6, 0.05, 0.8
#: Weight and cap of the interval cost, |log2(played / written)|.
INTERVAL_WEIGHT, INTERVAL_CAP = 0.9, 1.3
#: How many events and notes may be passed over between two pairs without a jump.
EVENT_REACH, NOTE_REACH = 6, 5
MOST_PASSED = 40
#: A note beginning with a soft split is less likely than one beginning with an onset.
SOFT_PAIR_COST = 0.12
SLIVER_S = 0.07
TEMPO_GUESSES = (1.0, 0.7, 1.4)
#: An alignment this cheap per note is right; no other tempo is tried.
CLEAR_COST = 0.2


@dataclass(frozen=True, slots=True, kw_only=True)
class Match:
    """Event ``event`` is note ``note`` (indices). ``jump`` marks a pair reached by a jump in the score."""

    event: int
    note: int
    jump: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Alignment:
    """Matches in order of time and the cost per note; ``seconds_per_quarter`` is the tempo that the last pass used."""

    matches: tuple[Match, ...]
    cost_per_note: float
    seconds_per_quarter: float


def align(
    events: Sequence[Event], notes: Sequence[ExpectedNote], seconds_per_quarter: float, guesses: Sequence[float] = TEMPO_GUESSES
) -> Alignment:
    """Align events with notes.

    Args:
        events: what was heard, in order of time; may be empty.
        notes: what is expected, in performed order; at least one.
        seconds_per_quarter: the target tempo, the first guess.
        guesses: factors of it that are tried, besides the take's own length over the passage's.
    """
    if not events:
        return Alignment(matches=(), cost_per_note=1.0, seconds_per_quarter=seconds_per_quarter)
    table = _Table(events, notes)
    tempi = [seconds_per_quarter * g for g in guesses]
    span = max(n.onset_quarters for n in notes) - notes[0].onset_quarters
    if span > 0:
        tempi.append((events[-1].onset_s - events[0].onset_s) / span)
    best = table.solve(tempi[0])
    for guess in tempi[1:]:
        if best.cost_per_note < CLEAR_COST or guess < 0.02:
            break
        best = min(best, table.solve(guess), key=lambda a: a.cost_per_note)
    for _ in range(2):
        tempo = local_seconds_per_quarter(events, notes, best)
        if tempo is None or abs(np.log2(tempo / best.seconds_per_quarter)) < 0.01:
            break
        again = table.solve(tempo)
        if again.cost_per_note > best.cost_per_note + 1e-9:
            break
        best = again
    return best


def local_seconds_per_quarter(events: Sequence[Event], notes: Sequence[ExpectedNote], alignment: Alignment) -> float | None:
    """Median of played over written intervals between neighbouring matches; None with fewer than three."""
    ratios = []
    for before, after in zip(alignment.matches[:-1], alignment.matches[1:], strict=True):
        quarters = notes[after.note].onset_quarters - notes[before.note].onset_quarters
        seconds = events[after.event].onset_s - events[before.event].onset_s
        if not after.jump and quarters > 0.1 and seconds > 0.02:
            ratios.append(seconds / quarters)
    return float(np.median(ratios)) if len(ratios) >= 3 else None


class _Table:
    """Costs that do not depend on the tempo, and the dynamic programme."""

    def __init__(self, events: Sequence[Event], notes: Sequence[ExpectedNote]) -> None:
        self.times = np.array([e.onset_s for e in events])
        self.quarters = np.array([n.onset_quarters for n in notes])
        self.pair = np.array([[_pair_cost(e, n) for n in notes] for e in events])
        self.reach = _reach(events)
        self.missed = np.array([_missed_cost(n, notes[i - 1] if i else None) for i, n in enumerate(notes)])
        self.grace = np.array([n.grace for n in notes])
        self.landing = np.array([0.0 if n.beat < 1e-6 else MID_BAR_LANDING_COST for n in notes])
        self.extra = np.array([_extra_cost(e, events[i - 1] if i else None) for i, e in enumerate(events)])

    def solve(self, seconds_per_quarter: float) -> Alignment:
        m, n = self.pair.shape
        missed_before = np.concatenate(([0.0], np.cumsum(self.missed)))
        extra_before = np.concatenate(([0.0], np.cumsum(self.extra)))
        # Sounds before the first note (a breath, a tuning note) cost little; notes not reached at either end cost as missed.
        lead_in = EDGE_EXTRA_SHARE * extra_before[:-1]
        start = _edge_cost(missed_before[:-1])
        total = np.full((m, n), np.inf)
        back_event = np.full((m, n), -1, dtype=np.int32)
        back_note = np.full((m, n), -1, dtype=np.int32)
        jumped = np.zeros((m, n), dtype=bool)
        offsets = np.arange(1, NOTE_REACH + 2)
        note_index = np.arange(n)
        source = note_index[None, :] - offsets[:, None]
        valid = source >= 0
        source_safe = np.where(valid, source, 0)
        missed_between = missed_before[note_index][None, :] - missed_before[source_safe + 1]
        quarters_between = self.quarters[None, :] - self.quarters[source_safe]
        timed = (quarters_between > 1e-6) & ~self.grace[None, :] & ~self.grace[source_safe]
        log_expected = np.log2(np.maximum(quarters_between * seconds_per_quarter, 1e-3))
        between = np.where(valid, missed_between, np.inf)
        best_so_far = np.full(m, np.inf)
        best_note = np.zeros(m, dtype=np.int32)
        for j in range(m):
            cost = lead_in[j] + start
            from_event = np.full(n, -1, dtype=np.int32)
            from_note = np.full(n, -1, dtype=np.int32)
            is_jump = np.zeros(n, dtype=bool)
            before = np.arange(self.reach[j], j)
            if len(before):
                passed = extra_before[j] - extra_before[before + 1]
                log_played = np.log2(np.maximum(self.times[j] - self.times[before], 1e-3))
                away = np.abs(log_played[:, None, None] - log_expected[None])
                interval = np.where(timed[None], INTERVAL_WEIGHT * np.minimum(away, INTERVAL_CAP), 0.1)
                step = total[before][:, source_safe] + between[None] + interval + passed[:, None, None]
                flat = step.reshape(-1, n)
                choice = np.argmin(flat, axis=0)
                value = flat[choice, note_index]
                better = value < cost
                cost = np.where(better, value, cost)
                from_event = np.where(better, before[choice // len(offsets)], from_event)
                from_note = np.where(better, source_safe[choice % len(offsets), note_index], from_note)
                leaps = best_so_far[before] + passed + JUMP_COST
                leap = int(np.argmin(leaps))
                landed = leaps[leap] + self.landing
                better = landed < cost
                cost = np.where(better, landed, cost)
                from_event = np.where(better, before[leap], from_event)
                from_note = np.where(better, best_note[before[leap]], from_note)
                is_jump = better
            total[j] = cost + self.pair[j]
            back_event[j], back_note[j], jumped[j] = from_event, from_note, is_jump
            best_note[j] = int(np.argmin(total[j]))
            best_so_far[j] = total[j, best_note[j]]
        return self._trace(total, back_event, back_note, jumped, extra_before, missed_before, seconds_per_quarter)

    def _trace(
        self,
        total: FloatArray,
        back_event: np.ndarray,
        back_note: np.ndarray,
        jumped: np.ndarray,
        extra_before: FloatArray,
        missed_before: FloatArray,
        seconds_per_quarter: float,
    ) -> Alignment:
        _m, n = total.shape
        left_notes = missed_before[-1] - missed_before[1:]
        left_events = extra_before[-1] - extra_before[1:]
        unreached = _edge_cost(left_notes)
        end = total + EDGE_EXTRA_SHARE * left_events[:, None] + unreached[None, :]
        j, i = (int(v) for v in np.unravel_index(int(np.argmin(end)), end.shape))
        cost = float(end[j, i])
        matches = []
        while j >= 0:
            matches.append(Match(event=j, note=i, jump=bool(jumped[j, i])))
            j, i = int(back_event[j, i]), int(back_note[j, i])
        return Alignment(matches=tuple(reversed(matches)), cost_per_note=cost / n, seconds_per_quarter=seconds_per_quarter)


def _edge_cost(missed: FloatArray) -> FloatArray:
    """Cost of notes not played before the first or after the last match: as missed, or as one jump and a little more."""
    return np.asarray(np.minimum(missed, JUMP_COST + np.minimum(EDGE_MISSED_SHARE * missed, EDGE_MISSED_MOST)))


def _reach(events: Sequence[Event]) -> list[int]:
    """For each event the earliest that may precede it: ``EVENT_REACH`` solid ones back; soft splits do not count."""
    solid = [i for i, e in enumerate(events) if not e.soft]
    counts = np.cumsum([not e.soft for e in events])
    reach = []
    for j in range(len(events)):
        before = int(counts[j - 1]) if j else 0
        first = solid[before - EVENT_REACH - 1] if before > EVENT_REACH else 0
        reach.append(max(first, j - MOST_PASSED))
    return reach


def _pair_cost(event: Event, note: ExpectedNote) -> float:
    return _pitch_cost(event, note) + (SOFT_PAIR_COST if event.soft else 0.0)


def _pitch_cost(event: Event, note: ExpectedNote) -> float:
    distance = min(abs(event.midi - pitch) for pitch in note.pitches)
    if distance == 0:
        return 0.0
    if distance in (12, 24):
        return OCTAVE_COST
    return NEAR_WRONG_COST if distance <= 2 else FAR_WRONG_COST


def _missed_cost(note: ExpectedNote, before: ExpectedNote | None) -> float:
    if note.grace:
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
