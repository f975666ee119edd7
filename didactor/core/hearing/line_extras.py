"""Sounds of a line that belong to no written note and are beyond doubt."""

from __future__ import annotations

import itertools

import numpy as np

from didactor.core.hearing.events import Event
from didactor.core.hearing.hearing import ExtraNote
from didactor.core.hearing.line import TOUCHES_S, Line
from didactor.core.hearing.line_notes import JUST_BEFORE_S, SOLID_SPREAD
from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation

#: Softer sounds come from elsewhere: an accompaniment, a neighbour, the room. From the last log odds on, no neighbour explains a sound.
EXTRA_MIN_S, EXTRA_BELOW_DB, EXTRA_SURE, EXTRA_BEYOND_DOUBT = 0.06, 12.0, 1.5, 8.0
#: What rings on under the next note is heard again when that one is softer: a string or a key, or a pitch of just before, was struck
#: anew only from these log odds on (development set: ringing at most 4.9, struck at least 7.0).
EXTRA_STRUCK = 6.0
SAME_SOUND_SEMITONES = 0.8


def extras_of(line: Line, instrument: Instrument) -> list[ExtraNote]:
    """Sounds between the first and the last match that belong to no note and are beyond doubt."""
    matches = line.alignment.matches
    if not matches:
        return []
    taken = {m.event for m in matches}
    levels = float(np.median([line.events[i].level_db for i in taken]))
    found = []
    for index in range(matches[0].event + 1, matches[-1].event):
        event, before, after = line.events[index], line.events[index - 1], line.events[index + 1]
        if index in taken or event.soft:
            continue
        # Of a sound in pieces the clearest one tells.
        event = min((event, *_later_pieces(line, index, taken)), key=lambda e: e.spread)
        if event.duration_s < EXTRA_MIN_S or event.voicing < 0.7:
            continue
        if event.level_db < levels - EXTRA_BELOW_DB or event.spread > SOLID_SPREAD:
            continue
        # A partial or a second piece of a neighbour, or its glide; what follows may be a piece of this very sound.
        neighbours = (before, after) if index + 1 in taken else (before,)
        explained = _leads_into_a_note(line, index, taken) or any(
            abs(event.midi - o.midi) in (0, 12, 19, 24) or abs(event.pitch - o.pitch) < SAME_SOUND_SEMITONES for o in neighbours
        )
        # A held tone begins anew in the middle for many reasons, a plucked or struck one only when it is plucked or struck.
        if explained and not instrument.decays:
            continue
        odds = line.second.odds(event.midi, line.events[index].onset_s, event.duration_s)
        may_ring = instrument.decays or _sounded_just_before(line, index)
        if odds < (EXTRA_BEYOND_DOUBT if explained else EXTRA_STRUCK if may_ring else EXTRA_SURE):
            continue
        previous = max((m for m in matches if m.event < index), key=lambda m: m.event)
        following = min((m for m in matches if m.event > index), key=lambda m: m.event)
        if following.jump and line.time_was_taken(previous.note, following.note):
            continue  # what was played here could not be followed: it may be what is written
        between = line.expectation.notes[previous.note + 1 : following.note]
        if any(event.midi - line.shift in note.pitches for note in between):
            continue  # a note that is written here, and comes off its place
        onset_s = line.events[index].onset_s
        elapsed = (onset_s - line.events[previous.event].onset_s) / max(line.alignment.seconds_per_quarter, 1e-3)
        found.append(place_extra(line.expectation, previous.note, elapsed, onset_s, event.midi - line.shift))
    return found


def _sounded_just_before(line: Line, index: int) -> bool:
    event = line.events[index]
    return any(abs(o.midi - event.midi) in (0, 12, 19, 24) and event.onset_s - o.offset_s < JUST_BEFORE_S for o in line.events[:index])


def _leads_into_a_note(line: Line, index: int, taken: set[int]) -> bool:
    """Whether an event goes on, in touching pieces of its own pitch, as a note: its beginning, that wavered."""
    for earlier, later in itertools.pairwise(range(index, len(line.events))):
        before, event = line.events[earlier], line.events[later]
        if event.midi != before.midi or event.onset_s - before.offset_s > TOUCHES_S:
            return False
        if later in taken:
            return True
    return False


def _later_pieces(line: Line, index: int, taken: set[int]) -> list[Event]:
    """The soft pieces after an event that go on with its pitch."""
    pieces: list[Event] = []
    for later in range(index + 1, len(line.events)):
        event = line.events[later]
        if later in taken or not event.soft or event.midi != line.events[index].midi:
            break
        pieces.append(event)
    return pieces


def place_extra(expectation: Expectation, note_index: int, quarters_after: float, onset_s: float, midi: int) -> ExtraNote:
    """An extra sound with the place in the score where it fell, ``quarters_after`` a note."""
    position = min(expectation.notes[note_index].onset_quarters + quarters_after, expectation.length_quarters - 1e-3)
    bar = expectation.bar_at(position)
    return ExtraNote(onset_s=onset_s, midi=midi, bar=bar.number, pass_=bar.pass_, beat=position - bar.start_quarters)
