"""The ear for one voice: events of one line laid over the score, and a second look before a note is called anything but right.

An accusation needs clear evidence; where it is missing the note is ``uncertain``, with a reason.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from didactor.core.hearing.alignment import Alignment
from didactor.core.hearing.events import Event, find_events, find_tuning
from didactor.core.hearing.evidence_of_pitch import (
    attack_s,
    octave_is_confirmed,
    onset_is_confirmed,
    pitch_is_present,
    span_is_explained,
    steady_pitch,
)
from didactor.core.hearing.features import FLUX_HOP_S, Features, listen
from didactor.core.hearing.groups import EARLY_S, onset_time
from didactor.core.hearing.hearing import ExtraNote, Hearing, Jump, NoteHeard, Status, Tuning
from didactor.core.hearing.line_costs import align_line
from didactor.core.hearing.note_model import KEYS, LOWEST_MIDI
from didactor.core.hearing.second_opinion import SecondOpinion
from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.units import A4_HZ

#: Cost per note above which a constant shift of everything is considered, and how much cheaper it must be.
SHIFT_FROM_COST, SHIFT_GAIN = 0.3, 0.5
#: Cost per note from which on the ear doubts its own events.
RECONSIDER_FROM_COST = 0.25
MIN_VOICED_SHARE = 0.03
#: An event that accuses must last this long and be this clearly pitched.
SOLID_S, SOLID_VOICING, SOLID_SPREAD = 0.07, 0.65, 0.7
#: Log odds of the second opinion: found where no event was, sure enough to accuse, too unsure to.
FOUND, SURE, UNSURE = 2.5, 1.5, -0.5
#: An onset posterior this high, this near to where a note was heard and away from where it was due, proves a displaced note.
CLEAR_ONSET, PEAK_NEAR_S, PEAK_AWAY_S = 0.5, 0.05, 0.03
#: More notes in a row without an event were not played.
MOST_UNMATCHED = 5
#: Softer sounds come from elsewhere: an accompaniment, a neighbour, the room. From the last log odds on, no neighbour explains a sound.
EXTRA_MIN_S, EXTRA_BELOW_DB, EXTRA_SURE, EXTRA_BEYOND_DOUBT = 0.06, 12.0, 1.5, 8.0
SAME_SOUND_SEMITONES = 0.8
#: A sound ends where its level falls by so much within twice so many frames (6 ms each).
FALL_DB, FALL_FRAMES, FALL_AFTER_S, TAIL_FRAMES = 6.0, 5, 0.1, 25
#: A sound whose pitch is lost has ended where its level is lower by this.
GONE_DB = 10.0
#: A held tone may be lost for so long and still be the same.
LOST_S = 0.16
#: A tail is softer than its neighbours by more than this, and rises by less; from the third on nothing was played.
TAIL_DROP_DB, TAIL_RISE_DB, SURE_DROP_DB = 6.5, 3.5, 9.0
#: The shortest note whose cents are measured, from which share of it on, and up to so long before its end.
MIN_CENTS_S, STEADY_FROM, RELEASE_S = 0.12, 0.2, 0.02
FEWEST_FOR_TUNING = 5
#: Displacements from here on are looked at twice before they are believed.
DOUBTED_FROM_MS = 40.0


def hear(samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument) -> Hearing | None:
    """Hear one line. Returns None where there is nothing with a pitch to hear.

    Args:
        samples: mono at ``RATE_HZ``.
        seconds_per_quarter: the target tempo, a first guess.
    """
    line = listen_to_line(samples, expectation, seconds_per_quarter, instrument)
    if line is None:
        return None
    events, alignment, shift = line.events, line.alignment, line.shift
    right = sum(
        1 for match in alignment.matches if any(events[match.event].midi == p + shift for p in expectation.notes[match.note].pitches)
    )
    solid = [e for e in events if not e.soft and e.duration_s > 0.1 and e.voicing > 0.7]
    return OneVoice(
        line=line,
        notes=tuple(line.note_heard(i, instrument) for i in range(len(expectation.notes))),
        extra=tuple(line.extras(instrument)),
        jumps=tuple(line.jumps()),
        seconds_per_quarter=alignment.seconds_per_quarter,
        share_of_notes=min(right, len({m.note for m in alignment.matches})) / len(expectation.notes),
        share_of_sounds=right / max(1, len(solid)),
        tuning=Tuning(a4_hz=A4_HZ * 2 ** (line.own_cents / 1200), offset_cents=line.own_cents, concentration=line.tuning_concentration),
        shift=shift,
    )


def listen_to_line(
    samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument
) -> Line | None:
    """Events and their alignment; None where there is nothing with a pitch."""
    # A player may go beyond what the table of instruments expects; what is written must be heard all the same.
    pitches = [n.sounding_midi for n in expectation.notes]
    instrument = replace(instrument, low=min([instrument.low, *pitches]), high=max([instrument.high, *pitches]))
    features = listen(samples, instrument)
    tuning_cents, concentration = find_tuning(features)
    events = find_events(features, instrument, tuning_cents)
    if float((features.voicing > 0.6).mean()) < MIN_VOICED_SHARE or not events:
        return None
    second = SecondOpinion(features, tuning_cents)
    alignment, shift = _align_with_shift(events, expectation, seconds_per_quarter)
    if alignment.cost_per_note > RECONSIDER_FROM_COST:
        # Something is wrong, perhaps with the ear: the note model hears all of it, and what it does not hear counts for little.
        doubted = [replace(e, soft=e.soft or not second.hears(e.midi, e.onset_s)) for e in events]
        again, other_shift = _align_with_shift(doubted, expectation, seconds_per_quarter)
        if again.cost_per_note < alignment.cost_per_note:
            events, alignment, shift = doubted, again, other_shift
    return Line(
        features=features,
        second=second,
        events=tuple(events),
        alignment=alignment,
        tuning_cents=tuning_cents,
        tuning_concentration=concentration,
        shift=shift,
        expectation=expectation,
    )


@dataclass(frozen=True, kw_only=True)
class OneVoice(Hearing):
    """Keeps the line, for the second look at displaced onsets."""

    line: Line

    def onset_holds(self, index: int, residual_s: float) -> bool:
        if abs(residual_s) * 1000 <= DOUBTED_FROM_MS or self.line.onset_holds(index, residual_s):
            return True
        return abs(residual_s) > PEAK_NEAR_S + PEAK_AWAY_S and self.line.begins_at(index, residual_s)


def _align_with_shift(events: list[Event], expectation: Expectation, seconds: float) -> tuple[Alignment, int]:
    """Align as written; when that is poor, also an octave off and untransposed, and keep what explains it far better."""
    best, best_shift = align_line(events, expectation.notes, seconds), 0
    if best.cost_per_note <= SHIFT_FROM_COST:
        return best, 0
    written = best
    for shift in dict.fromkeys((12, -12, -expectation.transposition, 24, -24)):
        if shift == 0:
            continue
        moved = [
            replace(n, sounding_midi=n.sounding_midi + shift, alternatives=tuple(a + shift for a in n.alternatives))
            for n in expectation.notes
        ]
        candidate = align_line(events, moved, seconds, guesses=(1.0,))
        if candidate.cost_per_note < min(best.cost_per_note, SHIFT_GAIN * written.cost_per_note):
            best, best_shift = candidate, shift
    return best, best_shift


@dataclass(frozen=True, kw_only=True)
class Line:
    """Events, their alignment, and the questions asked of them. ``tuning_cents`` is the first estimate, by frames."""

    features: Features
    second: SecondOpinion
    events: tuple[Event, ...]
    alignment: Alignment
    tuning_cents: float
    tuning_concentration: float
    shift: int
    expectation: Expectation

    def place_of(self, index: int) -> tuple[float, float] | None:
        """When a note begins, or is due between its neighbours, and how long it lasts; seconds. None outside what was matched."""
        notes = self.expectation.notes
        seconds = notes[index].duration_quarters * self.alignment.seconds_per_quarter
        if index in self.final:
            return self.events[self.final[index]].onset_s, seconds
        before = max((i for i in self.final if i < index), default=None)
        after = min((i for i in self.final if i > index), default=None)
        if before is None or after is None or self.stretches[before] != self.stretches[after]:
            return None
        first, last = self.events[self.final[before]].onset_s, self.events[self.final[after]].onset_s
        span = notes[after].onset_quarters - notes[before].onset_quarters
        share = (notes[index].onset_quarters - notes[before].onset_quarters) / span if span > 0 else 0.0
        return first + share * (last - first), seconds

    def unmatched_events(self) -> list[Event]:
        taken = {m.event for m in self.alignment.matches}
        return [e for i, e in enumerate(self.events) if i not in taken]

    @cached_property
    def final(self) -> dict[int, int]:
        """Note index to event index; a note played again after a restart counts as played last."""
        return {match.note: match.event for match in self.alignment.matches}

    @cached_property
    def stretches(self) -> dict[int, int]:
        stretch, result = 0, {}
        for match in self.alignment.matches:
            stretch += match.jump
            result[match.note] = stretch
        return result

    @cached_property
    def loud_db(self) -> float:
        return float(np.median([e.level_db for e in self.events]))

    def jumps(self) -> list[Jump]:
        matches = self.alignment.matches
        return [
            Jump(time_s=self.events[after.event].onset_s, from_index=before.note, to_index=after.note)
            for before, after in itertools.pairwise(matches)
            if after.jump
        ]

    def note_heard(self, index: int, instrument: Instrument) -> NoteHeard:
        note = self.expectation.notes[index]
        if index not in self.final:
            return self._unmatched(index)
        event = self.events[self.final[index]]
        if self._repeats(index) and self._is_tail(index, event.onset_s):
            return self._heard_in_a_tail(index)
        wanted = [p + self.shift for p in note.pitches]
        distance = min((event.midi - p for p in wanted), key=abs)
        confidence = _confidence(event)
        status, reason = Status.CORRECT, None
        offset_s = self._offset(self.final[index])
        if distance != 0:
            status, reason = self._accuse(event, offset_s, distance, min(wanted, key=lambda p: abs(event.midi - p)))
        cents = None
        if status is Status.CORRECT and instrument.bends and distance == 0 and event.duration_s >= MIN_CENTS_S and event.spread < 0.5:
            steady = self.steady_cents.get(index)
            cents = None if steady is None else steady - self.own_cents
        return NoteHeard(
            status=status,
            confidence=confidence if status is not Status.UNCERTAIN else min(confidence, 0.45),
            reason=reason,
            onset_s=event.onset_s,
            offset_s=offset_s,
            heard_midi=event.midi,
            cents=cents,
            loudness_db=event.level_db - self.loud_db,
            stretch=self.stretches[index],
            timed=not (note.grace or (event.soft and self._repeats(index))),
        )

    def _repeats(self, index: int) -> bool:
        notes = self.expectation.notes
        return index > 0 and notes[index - 1].sounding_midi == notes[index].sounding_midi

    def _is_tail(self, index: int, onset_s: float) -> bool:
        """Whether what sounds here is far softer than the note before and does not rise: a room's tail, not a note repeated."""
        drop, rise = self._drop_and_rise(index, onset_s)
        return drop > TAIL_DROP_DB and rise < TAIL_RISE_DB

    def _drop_and_rise(self, index: int, onset_s: float) -> tuple[float, float]:
        """How much softer the time in which a note is due is than its neighbours, and how much the level rises into it; dB."""
        neighbours = [self.events[self.final[i]].level_db for i in (index - 1, index + 1) if i in self.final]
        if not neighbours:
            return 0.0, 0.0
        length = self.expectation.notes[index].duration_quarters * self.alignment.seconds_per_quarter
        until_s = onset_s + min(0.25, max(0.08, 0.7 * length))
        begin = self.features.flux_index(onset_s)
        levels = self.features.level_db[begin : self.features.flux_index(until_s) + 1]
        before = self.features.level_db[self.features.flux_index(onset_s - 0.06) : begin + 1]
        if len(levels) == 0 or len(before) == 0:
            return 0.0, 0.0
        return min(neighbours) - float(np.percentile(levels, 80)), float(levels.max() - before.min())

    def _heard_in_a_tail(self, index: int) -> NoteHeard:
        """A repeated note of which only the one before is heard, fading."""
        place = self.place_of(index)
        odds = 0.0 if place is None else self.second.odds(self.expectation.notes[index].sounding_midi + self.shift, *place)
        drop, _ = self._drop_and_rise(index, self.events[self.final[index]].onset_s)
        if odds < 0 or drop > SURE_DROP_DB:
            return NoteHeard(status=Status.MISSED, confidence=max(0.75, probability(-odds)))
        return _not_judged("not heard apart from the note before: the same pitch went on sounding")

    @cached_property
    def steady_cents(self) -> dict[int, float]:
        """Note index to the cents of its steady part above its key at 440 Hz, for right notes that last long enough."""
        found = {}
        for index, event_index in self.final.items():
            event = self.events[event_index]
            pitches = [p + self.shift for p in self.expectation.notes[index].pitches]
            if event.midi not in pitches or event.duration_s < MIN_CENTS_S:
                continue
            end_s = self._offset(event_index)
            begin_s = event.onset_s + STEADY_FROM * (end_s - event.onset_s)
            pitch = steady_pitch(self.features, begin_s, end_s - RELEASE_S, event.pitch)
            if pitch is not None:
                found[index] = 100.0 * (pitch - event.midi)
        return found

    @cached_property
    def own_cents(self) -> float:
        """The take's own tuning: the median of its notes, long ones counting no more than short ones."""
        values = list(self.steady_cents.values())
        return float(np.median(values)) if len(values) >= FEWEST_FOR_TUNING else self.tuning_cents

    def _offset(self, event_index: int) -> float:
        """End of a note: later pieces of the same held sound that matched no note belong to it."""
        event = self.events[event_index]
        taken = set(self.final.values())
        end = event.offset_s
        for later_index in range(event_index + 1, len(self.events)):
            later = self.events[later_index]
            if later_index in taken or later.midi != event.midi or later.onset_s - end > LOST_S:
                break
            end = later.offset_s
        fallen = self._falls_at(event, end)
        if fallen < end:
            return fallen
        following = min((self.events[i].onset_s for i in taken if i > event_index), default=self.features.duration_s)
        return self._goes_on(event, end, following)

    def _goes_on(self, event: Event, end_s: float, until_s: float) -> float:
        """Where a sound ends whose pitch was lost: the level tells, up to the next note."""
        first, last = self.features.flux_index(end_s), self.features.flux_index(until_s)
        quiet = np.flatnonzero(self.features.level_db[first : last + 1] < event.level_db - GONE_DB)
        if len(quiet) == 0:
            return max(end_s, until_s)
        return end_s + float(quiet[0]) * FLUX_HOP_S

    def _falls_at(self, event: Event, end_s: float) -> float:
        """When the level falls away inside a sound: a room goes on with the pitch after the player has stopped."""
        first, last = (
            self.features.flux_index(event.onset_s + max(FALL_AFTER_S, 0.25 * (end_s - event.onset_s))),
            self.features.flux_index(end_s),
        )
        levels = self.features.level_db[first : last + 1]
        if len(levels) <= 2 * FALL_FRAMES:
            return end_s
        before, after = levels[: -2 * FALL_FRAMES], levels[2 * FALL_FRAMES :]
        fallen = (after < before - FALL_DB) & (after < event.level_db - FALL_DB)
        # Once fallen it must stay so: a dip in a held note is no end.
        stays = np.flip(np.maximum.accumulate(np.flip(levels[2 * FALL_FRAMES :]))) < event.level_db - 0.5 * FALL_DB
        # What rings on goes on falling; a tone that settles after its attack does not.
        later = np.concatenate((after[TAIL_FRAMES:], np.full(min(TAIL_FRAMES, len(after)), -200.0)))
        at = np.flatnonzero(fallen & stays & (later < after - 0.5 * FALL_DB))
        return float((first + at[0] + FALL_FRAMES) * FLUX_HOP_S) if len(at) else end_s

    def _accuse(self, event: Event, end_s: float, distance: int, wanted: int) -> tuple[Status, str | None]:
        """Is a wrong pitch beyond doubt?"""
        if distance % 12 == 0:
            if octave_is_confirmed(self.features, event, wanted, self.tuning_cents):
                return Status.WRONG_PITCH, None
            return Status.UNCERTAIN, "the octave cannot be told apart in this recording"
        length_s = end_s - event.onset_s
        own, written = (self.second.odds(midi, event.onset_s, length_s) for midi in (event.midi, wanted))
        # Its edges may still hold, or already hold, a neighbour of the written pitch.
        inside = (event.onset_s + 0.3 * length_s, event.onset_s + 0.75 * length_s)
        if written > SURE and own < UNSURE:
            return Status.CORRECT, None
        if written > -SURE or pitch_is_present(self.features, wanted, *inside, self.tuning_cents, frames=3):
            return Status.UNCERTAIN, "the written pitch is heard here too"
        if own < UNSURE or length_s < SOLID_S or event.voicing < SOLID_VOICING or event.spread > SOLID_SPREAD:
            return Status.UNCERTAIN, "too short or too unclear to name its pitch"
        return Status.WRONG_PITCH, None

    def _unmatched(self, index: int) -> NoteHeard:
        note, final = self.expectation.notes[index], self.final
        if note.grace:
            return _not_judged("a grace note may pass too quickly to be heard apart")
        before = max((i for i in final if i < index), default=None)
        after = min((i for i in final if i > index), default=None)
        place = self.place_of(index)
        if before is None or after is None or after - before > MOST_UNMATCHED:
            return NoteHeard(status=Status.MISSED, confidence=0.8)
        if place is None:
            # The playing went on elsewhere here: left out, or played and not recognised?
            whole_bar = not any(n.bar == note.bar and n.pass_ == note.pass_ for n in map(self.expectation.notes.__getitem__, final))
            return NoteHeard(status=Status.MISSED, confidence=0.7) if whole_bar else _not_judged("the playing goes on elsewhere here")
        due_s, seconds = place
        midi = note.sounding_midi + self.shift
        odds = max(self.second.odds(midi, due_s + shift_s, seconds) for shift_s in (-0.05, 0.0, 0.05))
        if odds > FOUND:
            onset_s, rise = onset_time(self.second.spectrum, midi + self.tuning_cents / 100, due_s, 0.06)
            return NoteHeard(
                status=Status.CORRECT,
                confidence=probability(odds),
                onset_s=onset_s if rise > 0 else due_s,
                offset_s=due_s + seconds,
                heard_midi=midi,
                stretch=self.stretches[before],
            )
        if self._held_over(index, before):
            return _not_judged("not heard apart from the note before: the same pitch went on sounding")
        if self._drop_and_rise(index, due_s)[0] > SURE_DROP_DB and self._is_tail(index, due_s):
            return NoteHeard(status=Status.MISSED, confidence=max(0.75, probability(-odds)))
        if odds > 0:
            return _not_judged("something sounds at this pitch, too briefly to be sure")
        if odds > -2 * SURE and not self._clearly_absent(index, before, after):
            return _not_judged("the sound is blurred here")
        return NoteHeard(status=Status.MISSED, confidence=probability(-odds))

    def _held_over(self, index: int, before: int) -> bool:
        """A repeated pitch without a fresh onset, while the sound goes on past where the repeat should begin."""
        notes = self.expectation.notes
        if any(notes[i].sounding_midi != notes[index].sounding_midi for i in range(before, index)):
            return False
        begin = self.events[self.final[before]].onset_s
        due = begin + self.alignment.seconds_per_quarter * (notes[index].onset_quarters - notes[before].onset_quarters)
        return self._offset(self.final[before]) > due + 0.06

    def _clearly_absent(self, index: int, before: int, after: int) -> bool:
        """Whether the time in which the note was due is filled by silence or by its neighbours, clearly."""
        notes, events = self.expectation.notes, self.events
        first, last = events[self.final[before]], events[self.final[after]]
        span = notes[after].onset_quarters - notes[before].onset_quarters
        per_quarter = (last.onset_s - first.onset_s) / span if span > 0 else self.alignment.seconds_per_quarter
        due_s = first.onset_s + per_quarter * (notes[index].onset_quarters - notes[before].onset_quarters)
        length_s = min(0.3, max(0.06, 0.8 * per_quarter * notes[index].duration_quarters))
        around = [e.pitch for e in events if e.offset_s > due_s - 0.1 and e.onset_s < due_s + length_s + 0.1]
        quiet_db = float(np.median([events[i].level_db for i in self.final.values()])) - 25.0
        return span_is_explained(self.features, due_s, due_s + length_s, around, quiet_db)

    def onset_holds(self, index: int, residual_s: float) -> bool:
        """A second look at a displaced onset, so that a blurred attack is not taken for a late note."""
        own = self.events[self.final[index]]
        # A slow attack leaves open when the note begins: by about the time it takes to speak.
        if abs(residual_s) < DOUBTED_FROM_MS / 1000 + attack_s(self.features, own):
            return False
        pitch = self.expectation.notes[index].sounding_midi + self.shift + self.tuning_cents / 100.0
        sounding_before = [e for e in self.events if e.onset_s < own.onset_s - 0.03 and e.offset_s > own.onset_s - 0.4]
        before = sounding_before[-1] if sounding_before else None
        if before is not None and before.midi == round(pitch):
            return not own.soft and own.strength > 0.8
        return onset_is_confirmed(self.features, pitch, None if before is None else before.pitch, own.onset_s, own.onset_s - residual_s)

    def begins_at(self, index: int, residual_s: float) -> bool:
        """Whether the note model hears this note begin where it was heard, and not where it is due."""
        event = self.events[self.final[index]]
        key = self.expectation.notes[index].sounding_midi + self.shift - LOWEST_MIDI
        due_s = event.onset_s - residual_s
        self.second.posteriors.ensure(min(due_s, event.onset_s) - 0.2, max(due_s, event.onset_s) + 0.2)
        here = self._onset_posterior(key, event.onset_s, PEAK_NEAR_S)
        return here > CLEAR_ONSET and self._onset_posterior(key, due_s, PEAK_AWAY_S) < 0.4 * here

    def _onset_posterior(self, key: int, time_s: float, around_s: float) -> float:
        posteriors = self.second.posteriors
        if not 0 <= key < KEYS:
            return 0.0
        # The posterior's peak comes a little before the sound's half level.
        first, last = posteriors.frame(time_s - EARLY_S - around_s), posteriors.frame(time_s - EARLY_S + around_s)
        return float(posteriors.onset[first : last + 1, key].max())

    def extras(self, instrument: Instrument) -> list[ExtraNote]:
        """Sounds between the first and the last match that belong to no note and are beyond doubt."""
        matches = self.alignment.matches
        if not matches:
            return []
        taken = {m.event for m in matches}
        levels = float(np.median([self.events[i].level_db for i in taken]))
        found = []
        for index in range(matches[0].event + 1, matches[-1].event):
            event, before, after = self.events[index], self.events[index - 1], self.events[index + 1]
            if index in taken or event.soft:
                continue
            # Of a sound in pieces the clearest one tells.
            event = min((event, *self._later_pieces(index, taken)), key=lambda e: e.spread)
            if event.duration_s < EXTRA_MIN_S or event.voicing < 0.7:
                continue
            if event.level_db < levels - EXTRA_BELOW_DB or event.spread > SOLID_SPREAD:
                continue
            # A partial or a second piece of a neighbour, or its glide; what follows may be a piece of this very sound.
            neighbours = (before, after) if index + 1 in taken else (before,)
            odds = self.second.odds(event.midi, self.events[index].onset_s, event.duration_s)
            explained = any(
                abs(event.midi - o.midi) in (0, 12, 19, 24) or abs(event.pitch - o.pitch) < SAME_SOUND_SEMITONES for o in neighbours
            )
            # A held tone begins anew in the middle for many reasons, a plucked or struck one only when it is plucked or struck.
            if odds < EXTRA_SURE or (explained and (odds < EXTRA_BEYOND_DOUBT or not instrument.decays)):
                continue
            previous = max((m for m in matches if m.event < index), key=lambda m: m.event)
            onset_s = self.events[index].onset_s
            elapsed = (onset_s - self.events[previous.event].onset_s) / max(self.alignment.seconds_per_quarter, 1e-3)
            found.append(place_extra(self.expectation, previous.note, elapsed, onset_s, event.midi - self.shift))
        return found

    def _later_pieces(self, index: int, taken: set[int]) -> list[Event]:
        """The soft pieces after an event that go on with its pitch."""
        pieces: list[Event] = []
        for later in range(index + 1, len(self.events)):
            event = self.events[later]
            if later in taken or not event.soft or event.midi != self.events[index].midi:
                break
            pieces.append(event)
        return pieces


def _not_judged(reason: str) -> NoteHeard:
    return NoteHeard(status=Status.UNCERTAIN, confidence=0.4, reason=reason)


def probability(odds: float) -> float:
    """Log odds to a probability, short of certainty."""
    return float(np.clip(1 / (1 + np.exp(-odds)), 0.02, 0.99))


def place_extra(expectation: Expectation, note_index: int, quarters_after: float, onset_s: float, midi: int) -> ExtraNote:
    """An extra sound with the place in the score where it fell, ``quarters_after`` a note."""
    position = min(expectation.notes[note_index].onset_quarters + quarters_after, expectation.length_quarters - 1e-3)
    bar = expectation.bar_at(position)
    return ExtraNote(onset_s=onset_s, midi=midi, bar=bar.number, pass_=bar.pass_, beat=position - bar.start_quarters)


def _confidence(event: Event) -> float:
    clear = min(1.0, event.voicing) * (1.0 - min(0.5, max(0.0, event.spread - 0.2)))
    return float(np.clip(clear * min(1.0, 0.5 + event.duration_s / 0.16), 0.05, 0.99))
