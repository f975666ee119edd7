"""Heard moments laid over expected moments, with jumps.

Dynamic programming over pairs (heard, expected). A pair costs what its pitches differ by; going from one pair to the next costs
what lies between them: sounds passed over (extra), notes passed over (missed), and how far the played interval is from the
written one at the current tempo. Jumps back (restarts) and far ahead (skipped bars) cost a fixed amount, so that they win only
against several missed or extra notes. The tempo starts from several guesses; the cheapest alignment's own tempo is used for
the last pass. What a pair, a missed note or an extra sound costs is the ear's business (``line_costs``, ``group_costs``).
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from didactor.core.arrays import FloatArray

#: In missed notes (``MISSED_COST`` is 1): dearer than two notes passed over, cheaper than three. Chosen on the fit set, as all costs here.
JUMP_COST = 2.2
#: Players go back, and on, to the beginning of a bar; landing elsewhere costs this much more.
MID_BAR_LANDING_COST = 0.4
#: Before the first and after the last match, sounds cost this share of what they cost between; many notes not played there
#: cost little more than a jump, and less than a wrong note and a jump.
EDGE_EXTRA_SHARE, EDGE_MISSED_SHARE, EDGE_MISSED_MOST = 0.85, 0.05, 0.8
#: Weight and cap of the interval cost, |log2(played / written)|.
INTERVAL_WEIGHT, INTERVAL_CAP = 0.9, 1.3
#: How many sounds and notes may be passed over between two pairs without a jump.
EVENT_REACH, NOTE_REACH = 6, 5
MOST_PASSED = 40
TEMPO_GUESSES = (1.0, 0.7, 1.4)
#: An alignment this cheap per note is right; no other tempo is tried.
CLEAR_COST = 0.2
#: Playing straight on explains a take better than leaps that cost less, by at most so much for each sound that is a note only then;
#: so many of them at least, and such a share of all.
STRAIGHT_MORE, STRAIGHT_FEWEST, STRAIGHT_GAIN = 0.4, 4, 1.15
NO_JUMP = 1e6


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


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Material:
    """Costs of ``m`` heard against ``n`` expected moments, independent of the tempo.

    ``times``, ``extra``, ``soft``: shape (m,), seconds, cost of passing it over, whether it may be passed over without counting.
    ``quarters``, ``missed``, ``untimed``, ``bar_start``: shape (n,). ``pair``: shape (m, n).
    ``interval_weight``: how much the intervals count besides; ``jump_cost``: what going on elsewhere in the score costs, ``edge_cost``
    what many notes not played before the first or after the last match cost.
    """

    times: FloatArray
    extra: FloatArray
    soft: np.ndarray
    quarters: FloatArray
    missed: FloatArray
    untimed: np.ndarray
    bar_start: np.ndarray
    pair: FloatArray
    interval_weight: float = INTERVAL_WEIGHT
    jump_cost: float = JUMP_COST
    edge_cost: float = JUMP_COST


def align(material: Material, seconds_per_quarter: float, guesses: Sequence[float] = TEMPO_GUESSES) -> Alignment:
    """Align what was heard with what is expected.

    Args:
        seconds_per_quarter: the target tempo, the first guess.
        guesses: factors of it that are tried, besides the take's own length over the passage's.
    """
    if len(material.times) == 0:
        return Alignment(matches=(), cost_per_note=1.0, seconds_per_quarter=seconds_per_quarter)
    table = _Table(material)
    tempi = [seconds_per_quarter * g for g in guesses]
    span = float(material.quarters.max() - material.quarters[0])
    if span > 0:
        tempi.append(float(material.times[-1] - material.times[0]) / span)
    best = table.solve(tempi[0])
    for guess in tempi[1:]:
        if best.cost_per_note < CLEAR_COST or guess < 0.02:
            break
        best = min(best, table.solve(guess), key=lambda a: a.cost_per_note)
    for _ in range(2):
        tempo = local_seconds_per_quarter(material, best)
        if tempo is None or abs(np.log2(tempo / best.seconds_per_quarter)) < 0.01:
            break
        again = table.solve(tempo)
        if again.cost_per_note > best.cost_per_note + 1e-9:
            break
        best = again
    return _straight_on(material, best)


def _straight_on(material: Material, leaping: Alignment) -> Alignment:
    """The alignment from the first note to the last without jumps, where it is nearly as cheap and makes notes of far more of what sounds.

    What the ear hears badly (a blurred low register) costs more than a leap over it, and leaves the sounds themselves unexplained:
    whoever leaves bars out leaves their time out too.
    """
    if not leaping.matches or not (any(m.jump for m in leaping.matches) or _left_at_the_edges(material, leaping) >= STRAIGHT_FEWEST):
        return leaping
    straight = _Table(replace(material, jump_cost=NO_JUMP, edge_cost=NO_JUMP)).solve(leaping.seconds_per_quarter)
    more = (straight.cost_per_note - leaping.cost_per_note) * len(material.quarters)
    gained = len(straight.matches) - len(leaping.matches)
    enough = max(STRAIGHT_FEWEST, (STRAIGHT_GAIN - 1) * len(leaping.matches))
    return straight if gained >= enough and more < STRAIGHT_MORE * gained else leaping


def _left_at_the_edges(material: Material, alignment: Alignment) -> int:
    return len(material.quarters) - 1 - alignment.matches[-1].note + alignment.matches[0].note


def local_seconds_per_quarter(material: Material, alignment: Alignment) -> float | None:
    """Median of played over written intervals between neighbouring matches; None with fewer than three."""
    ratios = []
    for before, after in itertools.pairwise(alignment.matches):
        quarters = material.quarters[after.note] - material.quarters[before.note]
        seconds = material.times[after.event] - material.times[before.event]
        if not after.jump and quarters > 0.1 and seconds > 0.02:
            ratios.append(seconds / quarters)
    return float(np.median(ratios)) if len(ratios) >= 3 else None


class _Table:
    """The dynamic programme."""

    def __init__(self, material: Material) -> None:
        self.times, self.quarters, self.pair = material.times, material.quarters, material.pair
        self.missed, self.extra, self.grace = material.missed, material.extra, material.untimed
        self.reach = _reach(material.soft)
        self.interval_weight, self.jump_cost, self.edge_cost = material.interval_weight, material.jump_cost, material.edge_cost
        self.landing = np.where(material.bar_start, 0.0, MID_BAR_LANDING_COST)

    def solve(self, seconds_per_quarter: float) -> Alignment:
        m, n = self.pair.shape
        missed_before = np.concatenate(([0.0], np.cumsum(self.missed)))
        extra_before = np.concatenate(([0.0], np.cumsum(self.extra)))
        # Sounds before the first note (a breath, a tuning note) cost little; notes not reached at either end cost as missed.
        lead_in = EDGE_EXTRA_SHARE * extra_before[:-1]
        start = _edge_cost(missed_before[:-1], self.edge_cost)
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
                interval = np.where(timed[None], self.interval_weight * np.minimum(away, INTERVAL_CAP), 0.1)
                step = total[before][:, source_safe] + between[None] + interval + passed[:, None, None]
                flat = step.reshape(-1, n)
                choice = np.argmin(flat, axis=0)
                value = flat[choice, note_index]
                better = value < cost
                cost = np.where(better, value, cost)
                from_event = np.where(better, before[choice // len(offsets)], from_event)
                from_note = np.where(better, source_safe[choice % len(offsets), note_index], from_note)
                leaps = best_so_far[before] + passed + self.jump_cost
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
        unreached = _edge_cost(left_notes, self.edge_cost)
        end = total + EDGE_EXTRA_SHARE * left_events[:, None] + unreached[None, :]
        j, i = (int(v) for v in np.unravel_index(int(np.argmin(end)), end.shape))
        cost = float(end[j, i])
        matches = []
        while j >= 0:
            # Going on with the very next note after a long wait is no jump, whatever it cost.
            jump = bool(jumped[j, i]) and int(back_note[j, i]) != i - 1
            matches.append(Match(event=j, note=i, jump=jump))
            j, i = int(back_event[j, i]), int(back_note[j, i])
        return Alignment(matches=tuple(reversed(matches)), cost_per_note=cost / n, seconds_per_quarter=seconds_per_quarter)


def _edge_cost(missed: FloatArray, most: float) -> FloatArray:
    """Cost of notes not played before the first or after the last match: as missed, or as one jump and a little more."""
    return np.asarray(np.minimum(missed, most + np.minimum(EDGE_MISSED_SHARE * missed, EDGE_MISSED_MOST)))


def _reach(soft: np.ndarray) -> list[int]:
    """For each sound the earliest that may precede it: ``EVENT_REACH`` solid ones back; soft ones do not count."""
    solid = np.flatnonzero(~soft)
    counts = np.cumsum(~soft)
    reach = []
    for j in range(len(soft)):
        before = int(counts[j - 1]) if j else 0
        first = int(solid[before - EVENT_REACH - 1]) if before > EVENT_REACH else 0
        reach.append(max(first, j - MOST_PASSED))
    return reach
