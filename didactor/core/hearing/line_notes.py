"""What became of each written note of a line, and a second look before it is called anything but right."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from didactor.core.hearing.events import Event
from didactor.core.hearing.evidence_of_pitch import (
    attack_s,
    octave_is_confirmed,
    onset_is_confirmed,
    pitch_is_present,
    span_is_explained,
)
from didactor.core.hearing.groups import EARLY_S, onset_time
from didactor.core.hearing.hearing import NoteHeard, Status
from didactor.core.hearing.line import SURE_DROP_DB, TAIL_DROP_DB, TAIL_RISE_DB, Line
from didactor.core.hearing.note_model import KEYS, LOWEST_MIDI
from didactor.core.instruments import Instrument
from didactor.core.words import worded

#: An event that accuses must last this long and be this clearly pitched.
SOLID_S, SOLID_VOICING, SOLID_SPREAD = 0.07, 0.65, 0.7
#: Log odds of the second opinion: found where no event was, sure enough to accuse, too unsure to.
FOUND, SURE, UNSURE = 2.5, 1.5, -0.5
#: Below these log odds a note was not played, whatever else sounds (fit set: of 7,800 notes that were played one was below, of 720 that
#: were not 620).
NOT_PLAYED = -2.0
#: A pitch is plainly another one than the written where its log odds are higher by this.
PLAINLY = 6.0
#: What ended so long ago may still ring.
JUST_BEFORE_S = 0.3
#: An onset posterior this high, this near to where a note was heard and away from where it was due, proves a displaced note.
CLEAR_ONSET, PEAK_NEAR_S, PEAK_AWAY_S = 0.5, 0.05, 0.03
#: Log odds below which a soft split is no repeated note even where the level hardly falls, and the fall that makes it a missing one.
NOT_REPEATED, HALF_DROP_DB = -1.0, 3.0
#: Of a note's lack of clearness this share is lack of certainty (fit set: of 100 right notes less clear by 0.3, two were not right).
UNDERRATED = 0.06
#: The least clearness for questions of time and of cents.
TIMED_FROM, CENTS_FROM = 0.6, 0.75
#: More notes in a row without an event were not played, if their time was not taken either.
MOST_UNMATCHED = 5
#: Something that sounds for this share of the time of notes at the edges may be those notes.
SOUNDS_SHARE = 0.5
#: A repeated pitch is begun anew, beyond doubt, by an onset of this share of the usual strength and this rise of the level.
CLEAR_STRENGTH, CLEAR_RISE_DB, RISES_FROM_S, RISES_WITHIN_S = 0.8, 9.0, 0.06, 0.07
#: It is sought within this share of the way to its neighbours.
REPEATED_WITHIN = 0.6
#: Displacements from here on are looked at twice before they are believed.
DOUBTED_FROM_MS = 40.0


@dataclass(frozen=True, kw_only=True)
class JudgedLine(Line):
    """A line that answers for its notes."""

    def note_heard(self, index: int, instrument: Instrument) -> NoteHeard:
        note = self.expectation.notes[index]
        if index not in self.final:
            return self._unmatched(index)
        event = self.events[self.final[index]]
        if self.repeats(index):
            if event.soft and not self._begins_clearly(event):
                later = self._repeated_elsewhere(
                    index, event.onset_s, (self.final[index], self._next_matched(index)), self.stretches[index]
                )
                if later is not None:
                    return later
            tail = self._heard_in_a_tail(index, event)
            if tail is not None:
                return tail
        wanted = [p + self.shift for p in note.pitches]
        distance = min((event.midi - p for p in wanted), key=abs)
        clear = _clearness(event)
        confidence = 1 - UNDERRATED * (1 - clear)
        status, reason = Status.CORRECT, None
        offset_s = self.offset_in_a_room(index)
        if distance != 0:
            status, reason = self._accuse(event, offset_s, distance, min(wanted, key=lambda p: abs(event.midi - p)))
        cents = None
        if status is Status.CORRECT and instrument.bends and distance == 0 and event.spread < 0.5 and clear >= CENTS_FROM:
            steady = self.steady_cents.get(index)
            cents = None if steady is None else steady - self.own_cents
        return NoteHeard(
            status=status,
            confidence=confidence if status is not Status.UNCERTAIN else min(confidence, 0.45),
            reason=reason,
            onset_s=event.onset_s,
            began_s=event.began_s,
            offset_s=offset_s,
            heard_midi=event.midi,
            cents=cents,
            loudness_db=event.level_db - self.loud_db,
            stretch=self.stretches[index],
            timed=clear >= TIMED_FROM and not note.grace and (not self.repeats(index) or self._is_heard_apart(index, event)),
        )

    def _is_heard_apart(self, index: int, event: Event) -> bool:
        """Whether it is beyond doubt which sound is a repeated pitch: by a clear beginning, or as the only one that could be it.

        A vibrato or a tremolo parts a held tone again and again, and any of its parts may be the one that was played anew.
        """
        if self._begins_clearly(event):
            return True
        first = self.final.get(index - 1, self.final[index] - 1)
        between = [e for e in self.events[first + 1 : self._next_matched(index)] if e is not event and e.midi == event.midi]
        return not event.soft and not between

    def _heard_in_a_tail(self, index: int, event: Event) -> NoteHeard | None:
        """A repeated note of which only the one before is heard, held or fading; None where it was played."""
        drop, rise = self.drop_and_rise(index, event.onset_s)
        fades = drop > TAIL_DROP_DB
        if rise >= TAIL_RISE_DB or not (fades or event.soft):
            return None
        place = self.place_of(index)
        odds = 0.0 if place is None else self.second.odds(self.expectation.notes[index].sounding_midi + self.shift, *place)
        if not fades and odds > NOT_REPEATED:
            return None
        if odds < NOT_PLAYED or drop > SURE_DROP_DB or (odds < 0 and drop > HALF_DROP_DB):
            return NoteHeard(status=Status.MISSED, confidence=max(0.75, probability(-odds)))
        return _not_judged(worded("not heard apart from the note before: the same pitch went on sounding"))

    def _accuse(self, event: Event, end_s: float, distance: int, wanted: int) -> tuple[Status, str | None]:
        """Is a wrong pitch beyond doubt?"""
        if distance % 12 == 0:
            if octave_is_confirmed(self.features, event, wanted, self.tuning_cents):
                return Status.WRONG_PITCH, None
            return Status.UNCERTAIN, worded("the octave cannot be told apart in this recording")
        length_s = end_s - event.onset_s
        own, written = (self.second.odds(midi, event.onset_s, length_s) for midi in (event.midi, wanted))
        # Its edges may still hold, or already hold, a neighbour of the written pitch.
        inside = (event.onset_s + 0.3 * length_s, event.onset_s + 0.75 * length_s)
        if written > SURE and own < UNSURE:
            return Status.CORRECT, None
        heard_too = written > -SURE or (
            written > NOT_PLAYED and pitch_is_present(self.features, wanted, *inside, self.tuning_cents, frames=3)
        )
        # What sounds on from just before, on a string or in a room, does not hide a tone that is so much clearer.
        if heard_too and not (own - written > PLAINLY and self._sounded_before(event, wanted)):
            return Status.UNCERTAIN, worded("the written pitch is heard here too")
        if own < UNSURE or length_s < SOLID_S or event.voicing < SOLID_VOICING or event.spread > SOLID_SPREAD:
            return Status.UNCERTAIN, worded("too short or too unclear to name its pitch")
        return Status.WRONG_PITCH, None

    def _sounded_before(self, event: Event, midi: int) -> bool:
        return any(o.midi == midi and o.onset_s < event.onset_s and event.onset_s - o.offset_s < JUST_BEFORE_S for o in self.events)

    def _unmatched(self, index: int) -> NoteHeard:
        note, final = self.expectation.notes[index], self.final
        if note.grace:
            return _not_judged(worded("a grace note may pass too quickly to be heard apart"))
        before = max((i for i in final if i < index), default=None)
        after = min((i for i in final if i > index), default=None)
        place = self.place_of(index)
        if before is None or after is None:
            sounds_on = self._sounds_beyond(before, after)
            return (
                _not_judged(worded("what sounds here could not be followed"))
                if sounds_on
                else NoteHeard(status=Status.MISSED, confidence=0.8)
            )
        if after - before > MOST_UNMATCHED and not self.time_was_taken(before, after):
            return NoteHeard(status=Status.MISSED, confidence=0.8)
        if place is None:
            # The playing went on elsewhere here: left out, or played and not recognised?
            whole_bar = not any(n.bar == note.bar and n.pass_ == note.pass_ for n in map(self.expectation.notes.__getitem__, final))
            return (
                NoteHeard(status=Status.MISSED, confidence=0.7) if whole_bar else _not_judged(worded("the playing goes on elsewhere here"))
            )
        due_s, seconds = place
        # A sound held over from the note before would be heard where this one is due.
        repeated = self._repeated_elsewhere(index, due_s, (self.final[before], self.final[after]), self.stretches[before])
        if repeated is not None:
            return repeated
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
        if self.stretches[before] != self.stretches[after] and self._something_begins(before, after):
            return _not_judged(worded("the playing goes on elsewhere here"))
        if odds < NOT_PLAYED:
            return NoteHeard(status=Status.MISSED, confidence=probability(-odds))
        if self._held_over(index, before):
            return _not_judged(worded("not heard apart from the note before: the same pitch went on sounding"))
        if self.drop_and_rise(index, due_s)[0] > SURE_DROP_DB and self.is_tail(index, due_s):
            return NoteHeard(status=Status.MISSED, confidence=max(0.75, probability(-odds)))
        if odds > 0:
            return _not_judged(worded("something sounds at this pitch, too briefly to be sure"))
        if odds > -2 * SURE and not self._clearly_absent(index, before, after):
            return _not_judged(worded("the sound is blurred here"))
        return NoteHeard(status=Status.MISSED, confidence=probability(-odds))

    def _sounds_beyond(self, last: int | None, first: int | None) -> bool:
        """Whether before the first or after the last matched note something sounds for most of the time that is written there."""
        notes, events = self.expectation.notes, self.events
        if not self.final:
            return False
        if last is not None:
            edge = self.final[last]
            written = notes[-1].onset_quarters + notes[-1].duration_quarters - notes[last].onset_quarters - notes[last].duration_quarters
            beyond = [e for e in events[edge + 1 :] if e.midi != events[edge].midi or not e.soft]
        else:
            edge = self.final[first or 0]
            written = notes[first or 0].onset_quarters - notes[0].onset_quarters
            beyond = list(events[:edge])
        sounding_s = sum(e.duration_s for e in beyond if e.voicing > SOLID_VOICING)
        return sounding_s > SOUNDS_SHARE * written * self.alignment.seconds_per_quarter

    def _begins_clearly(self, event: Event) -> bool:
        """Whether a pitch that was there before is clearly begun anew: the level rises, and the spectrum with it."""
        here = self.features.flux_index(event.onset_s)
        before = self.features.level_db[self.features.flux_index(event.onset_s - RISES_FROM_S) : here + 1]
        after = self.features.level_db[here : self.features.flux_index(event.onset_s + RISES_WITHIN_S) + 1]
        return event.strength >= CLEAR_STRENGTH and len(before) > 0 and float(after.max() - before.min()) >= CLEAR_RISE_DB

    def _something_begins(self, before: int, after: int) -> bool:
        """Whether between two notes that follow each other in time anything is played that belongs to no note."""
        return any(not event.soft for event in self.events[self.final[before] + 1 : self.final[after]])

    def _next_matched(self, index: int) -> int:
        """The event of the next note that was matched; behind the last event where there is none."""
        return min((event for event in self.final.values() if event > self.final[index]), default=len(self.events))

    def _repeated_elsewhere(self, index: int, due_s: float, between: tuple[int, int], stretch: int) -> NoteHeard | None:
        """A repeated pitch begun anew between two events, off its place: too far for the alignment to take it."""
        if not self.repeats(index):
            return None
        notes, midi = self.expectation.notes, self.expectation.notes[index].sounding_midi + self.shift
        around = [abs(notes[i].onset_quarters - notes[index].onset_quarters) for i in (index - 1, index + 1) if i < len(notes)]
        within_s = REPEATED_WITHIN * min(around) * self.alignment.seconds_per_quarter
        for at, event in enumerate(self.events[between[0] + 1 : between[1]], start=between[0] + 1):
            if event.midi != midi or abs(event.onset_s - due_s) > within_s or not self._begins_clearly(event):
                continue
            odds = self.second.odds(midi, event.onset_s, notes[index].duration_quarters * self.alignment.seconds_per_quarter)
            if odds > FOUND:
                return NoteHeard(
                    status=Status.CORRECT,
                    confidence=probability(odds),
                    onset_s=event.onset_s,
                    offset_s=self.offset_of(at),
                    heard_midi=midi,
                    loudness_db=event.level_db - self.loud_db,
                    stretch=stretch,
                    timed=True,
                )
        return None

    def _held_over(self, index: int, before: int) -> bool:
        """A repeated pitch without a fresh onset, while the sound goes on past where the repeat should begin."""
        notes = self.expectation.notes
        if any(notes[i].sounding_midi != notes[index].sounding_midi for i in range(before, index)):
            return False
        begin = self.events[self.final[before]].onset_s
        due = begin + self.alignment.seconds_per_quarter * (notes[index].onset_quarters - notes[before].onset_quarters)
        return self.offset_of(self.final[before]) > due + 0.06

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
        if index not in self.final:
            return True  # found by a second look, which was sure of it
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


def _not_judged(reason: str) -> NoteHeard:
    return NoteHeard(status=Status.UNCERTAIN, confidence=0.4, reason=reason)


def probability(odds: float) -> float:
    """Log odds to a probability, short of certainty."""
    return float(np.clip(1 / (1 + np.exp(-odds)), 0.02, 0.99))


def _clearness(event: Event) -> float:
    """How clearly an event is pitched, steady and long, 0.05..0.99. Right notes are right far oftener than that: see ``UNDERRATED``."""
    clear = min(1.0, event.voicing) * (1.0 - min(0.5, max(0.0, event.spread - 0.2)))
    return float(np.clip(clear * min(1.0, 0.5 + event.duration_s / 0.16), 0.05, 0.99))
