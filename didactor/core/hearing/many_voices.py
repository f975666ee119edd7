"""The ear for many voices: two hands at a keyboard, parts on a guitar.

What begins together is laid over the score first; then each written note is looked for at its moment, and called right,
missed or wrong by the odds that its key was struck. Between clear yes and clear no it is not judged.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from didactor.core.arrays import FloatArray
from didactor.core.hearing.alignment import Alignment
from didactor.core.hearing.extra_keys import EXTRA_NEAR_S, INSTEAD_WITHIN, extras_of, with_wrong_ones
from didactor.core.hearing.features import FLUX_HOP_S, level_of, short_time
from didactor.core.hearing.groups import (
    Group,
    Moment,
    Strike,
    group_material,
    groups_of,
    moments_of,
    onset_time,
    strikes_of,
)
from didactor.core.hearing.hearing import Hearing, Jump, NoteHeard, Status, Tuning
from didactor.core.hearing.note_model import LOWEST_MIDI, note_posteriors
from didactor.core.hearing.presence import MODEL, Evidence, features_of, onset_near, sounding_between
from didactor.core.hearing.repeats import align_repeats
from didactor.core.hearing.spectrum import carried_from_hz, own_level_db, spectrum, tuning_of, tuning_of_notes
from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.units import A4_HZ, midi_to_hz
from didactor.core.words import worded

#: Log odds that a written note is played, before listening: nearly all are.
PRIOR = 1.5
#: A note is right from the first probability on and missed below the last. Below the second it is wrong, if another key was struck
#: instead: two pieces of evidence tell more than one. In between it is not judged.
RIGHT_FROM, WRONG_BELOW, MISSED_BELOW = 0.7, 0.45, 0.03
#: Log odds of the evidence that another key was struck where a written one is missing.
INSTEAD = 3.5
#: More of the same for a note whose fundamental the recording does not carry.
NOT_CARRIED = 3.0
SHIFT_FROM_COST, SHIFT_GAIN = 0.4, 0.75
NEAR_S = 0.11
#: A note is looked for so far from its moment, beyond what belongs to the moment itself; it is taken to be there when its strike
#: is this strong and the log odds are better by this much.
APART_S, ELSEWHERE_S, ELSEWHERE_STRENGTH, ELSEWHERE_GAIN = 0.06, 0.26, 0.55, 1.5
#: Log odds from which on a key that is an overtone of a written one was struck itself.
OVERTONE_STRUCK = 6.0
MIN_STRIKES = 3
#: What is typical of a hand takes so many notes to know.
FEWEST_TYPICAL = 6
#: The level of a note is the highest within this time of its onset.
LEVEL_S = 0.12


def hear(samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument) -> Hearing | None:
    """Hear many voices. Returns None where no note is struck.

    Args:
        samples: mono at ``RATE_HZ``.
        seconds_per_quarter: the target tempo, a first guess.
    """
    take = listen(samples, expectation, seconds_per_quarter)
    return None if take is None else hearing_of(take, samples)


def hearing_of(take: Take, samples: npt.NDArray[np.float32]) -> Hearing:
    """What is to be said of a take whose strikes are laid over the score."""
    notes = take.notes_heard()
    notes, extra = with_wrong_ones(take, notes, extras_of(take, notes))
    right = sum(n.status is Status.CORRECT for n in notes)
    sure = [(n.heard_midi, n.onset_s) for n in notes if n.status is Status.CORRECT and n.heard_midi is not None and n.onset_s is not None]
    measured = tuning_of_notes(samples, sure, take.evidence.tuning_cents)
    tuning_cents = take.evidence.tuning_cents if measured is None else measured
    return Hearing(
        notes=tuple(notes),
        extra=tuple(extra),
        jumps=tuple(take.jumps()),
        seconds_per_quarter=take.alignment.seconds_per_quarter,
        share_of_notes=right / len(notes),
        share_of_sounds=right / max(1, sum(s.strength > 0.6 for s in take.strikes)),
        tuning=Tuning(a4_hz=A4_HZ * 2 ** (tuning_cents / 1200), offset_cents=tuning_cents, concentration=0.8),
        shift=take.shift,
    )


@dataclass(frozen=True, kw_only=True)
class Take:
    """Strikes, their alignment with the moments of the score, and the evidence to ask, ``by_staff`` where one hand may be softer."""

    expectation: Expectation
    evidence: Evidence
    by_staff: dict[int, Evidence]
    strikes: list[Strike]
    groups: list[Group]
    moments: list[Moment]
    alignment: Alignment
    shift: int
    level_db: FloatArray

    @cached_property
    def times(self) -> dict[int, float]:
        """Moment to its time: of its group, or between its neighbours' groups."""
        heard = {m.note: self.groups[m.event].time_s for m in self.alignment.matches}
        times, stretches = dict(heard), self.stretches
        for before, after in itertools.pairwise(sorted(heard)):
            if stretches[before] != stretches[after]:
                continue
            a, b = self.moments[before].quarters, self.moments[after].quarters
            for index in range(before + 1, after):
                share = (self.moments[index].quarters - a) / max(b - a, 1e-6)
                times[index] = heard[before] + share * (heard[after] - heard[before])
        return times

    @cached_property
    def _every_time(self) -> list[tuple[int, float]]:
        """All moments with all their times: what is played again after a restart has several."""
        return sorted({*self.times.items(), *((m.note, self.groups[m.event].time_s) for m in self.alignment.matches)})

    @cached_property
    def stretches(self) -> dict[int, int]:
        stretch, result = 0, {}
        for match in self.alignment.matches:
            stretch += match.jump
            result[match.note] = stretch
        return result

    def company(self, moment: Moment, index: int) -> frozenset[int]:
        own = self.expectation.notes[index].pitches
        others = frozenset(self.expectation.notes[i].sounding_midi + self.shift for i in moment.notes if i != index)
        return others - {p + self.shift for p in own}

    def seconds(self, index: int) -> float:
        return self.expectation.notes[index].duration_quarters * self.alignment.seconds_per_quarter

    def rows(self) -> list[tuple[int, int, float, frozenset[int]]]:
        """(moment, note index, time, company) of every note that can be looked for."""
        result = []
        for m, moment in enumerate(self.moments):
            if m in self.times:
                result += [(m, i, self.times[m], self.company(moment, i)) for i in moment.notes]
        return result

    def features(self, midi: int, index: int, time_s: float, company: frozenset[int]) -> npt.NDArray[np.float64]:
        return features_of(self.by_staff[self.expectation.notes[index].staff], midi, time_s, self.seconds(index), company)

    def notes_heard(self) -> list[NoteHeard]:
        notes = [NoteHeard(status=Status.MISSED, confidence=0.9)] * len(self.expectation.notes)
        for index, note in enumerate(self.expectation.notes):
            if note.grace:
                notes[index] = NoteHeard(
                    status=Status.UNCERTAIN, confidence=0.4, reason=worded("a grace note may pass too quickly to be heard apart")
                )
        rows = self.rows()
        if not rows:
            return notes
        asked = [(row, p + self.shift) for row, entry in enumerate(rows) for p in self.expectation.notes[entry[1]].pitches]
        odds = MODEL.log_odds(np.array([self.features(midi, *rows[row][1:]) for row, midi in asked]))
        # Of several pitches that are right the one that is heard most clearly was meant.
        best: dict[int, tuple[float, int]] = {}
        for (row, midi), odd in zip(asked, odds.tolist(), strict=True):
            best[row] = max(best.get(row, (odd, midi)), (odd, midi), key=lambda pair: pair[0])
        for row, (moment, index, due_s, company) in enumerate(rows):
            odd, midi = best[row]
            doubt = NOT_CARRIED if self._is_not_carried(midi) else 0.0
            time_s = due_s
            elsewhere = self._struck_elsewhere(moment, index, midi, due_s)
            if elsewhere is not None and elsewhere[1] > odd + ELSEWHERE_GAIN:
                time_s, odd = elsewhere
            notes[index] = self._note_heard(moment, index, midi, time_s, company, 1 / (1 + np.exp(-(odd + PRIOR + doubt))))
        return notes

    def _struck_elsewhere(self, moment: int, index: int, midi: int, due_s: float) -> tuple[float, float] | None:
        """A clear strike of this key off its moment, as (time, log odds): one hand early or late, one note of a chord."""
        others = [t for m, t in self.times.items() if m != moment and midi in self.keys[m]]
        near = [
            s.time_s
            for s in self.strikes
            if s.midi == midi
            and s.strength > ELSEWHERE_STRENGTH
            and APART_S < abs(s.time_s - due_s) < ELSEWHERE_S
            and all(abs(s.time_s - t) > abs(s.time_s - due_s) for t in others)
        ]
        if not near:
            return None
        # What else is struck there is not known; what is due then is in its company.
        odds = [float(MODEL.log_odds(self.features(midi, index, t, self.due_at(t) - {midi})[None])[0]) for t in near]
        return max(zip(near, odds, strict=True), key=lambda pair: pair[1])

    @cached_property
    def keys(self) -> list[frozenset[int]]:
        """The keys of every moment, with all that are right there."""
        return [frozenset(p + self.shift for i in m.notes for p in self.expectation.notes[i].pitches) for m in self.moments]

    def due_at(self, time_s: float) -> frozenset[int]:
        """Keys of the moments within a strike's reach of a time."""
        return frozenset().union(*(self.keys[m] for m, t in self.times.items() if abs(t - time_s) < APART_S))

    def _note_heard(self, moment: int, index: int, midi: int, time_s: float, company: frozenset[int], probability: float) -> NoteHeard:
        stretch = self.stretches.get(moment, -1)
        if probability >= RIGHT_FROM:
            cents = self.evidence.tuning_cents
            onset_s, rise = self._onset(midi, time_s)
            return NoteHeard(
                status=Status.CORRECT,
                confidence=probability,
                onset_s=onset_s,
                offset_s=self.offset(midi, onset_s, index),
                heard_midi=midi,
                loudness_db=self._level_db(onset_s),
                own_db=own_level_db(self.evidence.spectrum, midi + cents / 100, tuple(m + cents / 100 for m in company), onset_s),
                clearness=onset_near(self.evidence.posteriors, midi - LOWEST_MIDI, onset_s),
                stretch=stretch,
                timed=rise > 0 and moment in self.stretches,
            )
        other = self._played_instead(moment, midi, time_s) if probability < WRONG_BELOW else None
        if other is None and probability >= MISSED_BELOW:
            return NoteHeard(
                status=Status.UNCERTAIN, confidence=max(probability, 1 - probability) / 2, reason=self._why(midi, company), stretch=stretch
            )
        if other is None:
            return NoteHeard(status=Status.MISSED, confidence=1 - probability, stretch=stretch)
        onset_s, _ = self._onset(other, time_s)
        return NoteHeard(
            status=Status.WRONG_PITCH,
            confidence=1 - probability,
            onset_s=onset_s,
            offset_s=self.offset(other, onset_s, index),
            heard_midi=other,
            stretch=stretch,
        )

    def _level_db(self, onset_s: float) -> float:
        """Level of all that sounds just after an onset, against the take's usual."""
        first = round(onset_s / FLUX_HOP_S)
        levels = self.level_db[first : first + round(LEVEL_S / FLUX_HOP_S) + 1]
        return float(levels.max() - self.usual_level_db) if len(levels) else 0.0

    @cached_property
    def usual_level_db(self) -> float:
        at = [round(g.time_s / FLUX_HOP_S) for g in self.groups]
        return float(
            np.median([self.level_db[k : k + round(LEVEL_S / FLUX_HOP_S) + 1].max() for k in at if k < len(self.level_db)] or [0.0])
        )

    def _is_not_carried(self, midi: int) -> bool:
        return midi_to_hz(midi) < self.evidence.carried_from_hz

    def _why(self, midi: int, company: frozenset[int]) -> str:
        if any(midi - m in (12, 19, 24) for m in company):
            return worded("covered by the overtones of a lower note")
        if self._is_not_carried(midi):
            return worded("the bass is not carried by this microphone")
        return worded("too faint among the other notes to be sure")

    def _onset(self, midi: int, time_s: float) -> tuple[float, float]:
        near = [s for s in self.strikes if s.midi == midi and abs(s.time_s - time_s) < NEAR_S]
        if near:
            return min(near, key=lambda s: abs(s.time_s - time_s)).time_s, 1.0
        return onset_time(self.evidence.spectrum, midi + self.evidence.tuning_cents / 100, time_s, 0.04)

    def offset(self, midi: int, onset_s: float, index: int) -> float:
        """When the key stops sounding, at most a little after it should."""
        posteriors = self.evidence.posteriors
        first = posteriors.frame(onset_s + 0.05)
        last = posteriors.frame(onset_s + 1.5 * self.seconds(index) + 0.2)
        silent = np.flatnonzero(posteriors.sounding[first:last, midi - LOWEST_MIDI] < 0.25)
        return float((first + silent[0]) * posteriors.hop_s) if len(silent) else float(last * posteriors.hop_s)

    def expected_near(self, time_s: float) -> set[int]:
        """Keys written within a moment of a time, and those still sounding from before. Bars that were played again count each time."""
        result: set[int] = set()
        for m, at in self._every_time:
            for i in self.moments[m].notes:
                if at - 0.15 < time_s < at + max(0.15, self.seconds(i) + 0.1):
                    result.update(p + self.shift for p in self.expectation.notes[i].pitches)
        return result

    def _played_instead(self, moment: int, midi: int, time_s: float) -> int | None:
        """A key struck at the time of a missing note that nobody else expects there."""
        around = self.expected_near(time_s) - {midi}
        # What sounds on from before, or is due soon, may be struck here by mistake, as may an overtone: that takes clearer evidence.
        doubtful = around | {w + o for w in around for o in (12, 19, 24, 28)}
        company = self.keys[moment] - {midi}
        due_here = company | (self.due_at(time_s) - {midi})
        near = []
        for strike in self.strikes:
            if abs(strike.time_s - time_s) >= EXTRA_NEAR_S or strike.midi in due_here or not 0 < abs(strike.midi - midi) <= INSTEAD_WITHIN:
                continue
            odds = float(MODEL.log_odds(features_of(self.evidence, strike.midi, strike.time_s, 0.25, company)[None])[0])
            if odds > (OVERTONE_STRUCK if strike.midi in doubtful else INSTEAD):
                near.append(strike)
        return min(near, key=lambda s: (abs(s.midi - midi) > 3, -s.strength)).midi if near else None

    def jumps(self) -> list[Jump]:
        matches = self.alignment.matches
        return [
            Jump(
                time_s=self.groups[after.event].time_s,
                from_index=self.moments[before.note].notes[0],
                to_index=self.moments[after.note].notes[0],
            )
            for before, after in itertools.pairwise(matches)
            if after.jump
        ]


def listen(samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float) -> Take | None:
    """Strikes and their alignment; None where nothing is struck."""
    peak = float(np.abs(samples).max()) if len(samples) else 0.0
    normal = samples / peak * 0.7 if peak > 0 else samples
    tuning_cents, _ = tuning_of(normal)
    posteriors, sound = note_posteriors(normal, tuning_cents), spectrum(short_time(normal))
    strikes = strikes_of(posteriors, sound, tuning_cents)
    if len(strikes) < MIN_STRIKES:
        return None
    evidence = Evidence(
        posteriors=posteriors,
        spectrum=sound,
        tuning_cents=tuning_cents,
        carried_from_hz=carried_from_hz(normal),
        typical_onset=0.5,
        typical_sounding=0.5,
    )
    return laid_over(strikes, evidence, level_of(normal), expectation, seconds_per_quarter)


def laid_over(
    strikes: list[Strike], evidence: Evidence, level_db: FloatArray, expectation: Expectation, seconds_per_quarter: float
) -> Take:
    """Strikes (at least one, in order of time) laid over the score, whatever they are."""
    groups, moments = groups_of(strikes), moments_of(expectation)
    alignment, shift = _align_with_shift(groups, moments, expectation, seconds_per_quarter)
    matched = [
        (expectation.notes[i].staff, expectation.notes[i].sounding_midi + shift - LOWEST_MIDI, groups[m.event].time_s)
        for m in alignment.matches
        for i in moments[m.note].notes
    ]
    evidence = _typically(evidence, [(key, t) for _, key, t in matched])
    by_staff = {
        s: _typically(evidence, [(key, t) for staff, key, t in matched if staff == s]) for s in {n.staff for n in expectation.notes}
    }
    return Take(
        expectation=expectation,
        evidence=evidence,
        by_staff=by_staff,
        strikes=strikes,
        groups=groups,
        moments=moments,
        alignment=alignment,
        shift=shift,
        level_db=level_db,
    )


def _typically(evidence: Evidence, struck: list[tuple[int, float]]) -> Evidence:
    """The evidence with the medians of these (key, time) as what is typical; unchanged with too few of them."""
    if len(struck) < FEWEST_TYPICAL:
        return evidence
    posteriors = evidence.posteriors
    return replace(
        evidence,
        typical_onset=float(np.median([onset_near(posteriors, key, t) for key, t in struck])),
        typical_sounding=float(np.median([sounding_between(posteriors, key, t + 0.02, t + 0.2) for key, t in struck])),
    )


def _align_with_shift(groups: list[Group], moments: list[Moment], expectation: Expectation, seconds: float) -> tuple[Alignment, int]:
    """As written first; when that is poor, also an octave off and untransposed."""
    again = np.array([expectation.notes[m.notes[0]].pass_ > 1 for m in moments])
    best, best_shift = align_repeats(group_material(groups, moments, expectation), again, seconds), 0
    if best.cost_per_note <= SHIFT_FROM_COST:
        return best, 0
    written = best
    for shift in dict.fromkeys((12, -12, -expectation.transposition)):
        if shift:
            candidate = align_repeats(group_material(groups, moments, expectation, shift), again, seconds, guesses=(1.0,))
            if candidate.cost_per_note < min(best.cost_per_note, SHIFT_GAIN * written.cost_per_note):
                best, best_shift = candidate, shift
    return best, best_shift
