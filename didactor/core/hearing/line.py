"""A line of one voice as it was heard: its events, which note each one is, and what can be measured of them."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from didactor.core.hearing.alignment import Alignment
from didactor.core.hearing.events import Event
from didactor.core.hearing.evidence_of_pitch import steady_pitch
from didactor.core.hearing.features import FLUX_HOP_S, Features
from didactor.core.hearing.hearing import Jump
from didactor.core.hearing.second_opinion import SecondOpinion
from didactor.core.score.expected import Expectation

#: A sound ends where its level falls by so much within twice so many frames (6 ms each).
FALL_DB, FALL_FRAMES, FALL_AFTER_S, TAIL_FRAMES = 6.0, 5, 0.1, 25
#: A sound whose pitch is lost has ended where its level is lower by this.
GONE_DB = 10.0
#: Whoever leaves notes out takes less than this share of the time that they would have taken.
TAKEN_SHARE = 0.7
#: A room fades by more than this, dB a second (-60 dB in 5 s), and has faded by so much at the end of so long a stretch.
FADES_DB_S, FADED_DB, FADES_LEAST_S = 12.0, 8.0, 0.3
#: A held tone may be lost for so long and still be the same.
LOST_S = 0.16
#: A tail is softer than its neighbours by more than this, and rises by less; from the third on nothing was played.
TAIL_DROP_DB, TAIL_RISE_DB, SURE_DROP_DB = 6.5, 3.5, 9.0
#: The shortest note whose cents are measured, from which share of it on, and up to so long before its end.
MIN_CENTS_S, STEADY_FROM, RELEASE_S = 0.12, 0.2, 0.02
FEWEST_FOR_TUNING = 5
#: What follows within this time goes on without a gap.
TOUCHES_S = 0.04


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
        if before is None or after is None or (self.stretches[before] != self.stretches[after] and not self.time_was_taken(before, after)):
            return None
        first, last = self.events[self.final[before]].onset_s, self.events[self.final[after]].onset_s
        span = notes[after].onset_quarters - notes[before].onset_quarters
        share = (notes[index].onset_quarters - notes[before].onset_quarters) / span if span > 0 else 0.0
        return first + share * (last - first), seconds

    def time_was_taken(self, before: int, after: int) -> bool:
        """Whether between two matched notes about the time went by that is written there: nothing was left out then, whatever was heard."""
        elapsed = self.events[self.final[after]].onset_s - self.events[self.final[before]].onset_s
        written = self.expectation.notes[after].onset_quarters - self.expectation.notes[before].onset_quarters
        return 0 < TAKEN_SHARE * written * self.alignment.seconds_per_quarter <= elapsed

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

    def repeats(self, index: int) -> bool:
        notes = self.expectation.notes
        return index > 0 and notes[index - 1].sounding_midi == notes[index].sounding_midi

    def is_tail(self, index: int, onset_s: float) -> bool:
        """Whether what sounds here is far softer than the note before and does not rise: a room's tail, not a note repeated."""
        drop, rise = self.drop_and_rise(index, onset_s)
        return drop > TAIL_DROP_DB and rise < TAIL_RISE_DB

    def drop_and_rise(self, index: int, onset_s: float) -> tuple[float, float]:
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

    @cached_property
    def steady_cents(self) -> dict[int, float]:
        """Note index to the cents of its steady part above its key at 440 Hz, for right notes that last long enough."""
        found = {}
        for index, event_index in self.final.items():
            event = self.events[event_index]
            pitches = [p + self.shift for p in self.expectation.notes[index].pitches]
            if event.midi not in pitches or event.duration_s < MIN_CENTS_S:
                continue
            end_s = self.offset_of(event_index)
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

    @cached_property
    def own_concentration(self) -> float:
        """How closely the notes lie around one grid, 0..1. Notes tell it better than frames, which the network sets off by pitch."""
        values = np.array(list(self.steady_cents.values()))
        if len(values) < FEWEST_FOR_TUNING:
            return self.tuning_concentration
        return float(np.abs(np.exp(2j * np.pi * values / 100).mean()))

    def offset_of(self, event_index: int) -> float:
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

    def offset_in_a_room(self, index: int) -> float:
        """End of a matched note; what fades steadily after its written end is the room's."""
        event_index = self.final[index]
        event, end_s = self.events[event_index], self.offset_of(event_index)
        due_s = event.onset_s + self.expectation.notes[index].duration_quarters * self.alignment.seconds_per_quarter
        levels = self.features.level_db[self.features.flux_index(due_s) : self.features.flux_index(end_s) + 1]
        if len(levels) * FLUX_HOP_S < FADES_LEAST_S:
            return end_s
        per_s = float(np.polyfit(np.arange(len(levels)) * FLUX_HOP_S, levels, 1)[0])
        if per_s > -FADES_DB_S or float(levels[-TAIL_FRAMES:].mean()) > event.level_db - FADED_DB:
            return end_s
        return due_s + float(np.argmax(levels < event.level_db - 0.5 * FADED_DB)) * FLUX_HOP_S

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
