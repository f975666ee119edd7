"""The ear for one voice: events of one line laid over the score, and a second look before a note is called anything but right.

An accusation needs clear evidence; where it is missing the note is ``uncertain``, with a reason.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from didactor.core.hearing.alignment import Alignment
from didactor.core.hearing.events import Event, find_events, find_tuning
from didactor.core.hearing.evidence_of_pitch import speaks_at
from didactor.core.hearing.features import Features, listen, steadiness
from didactor.core.hearing.hearing import Hearing, Tuning
from didactor.core.hearing.line import TOUCHES_S
from didactor.core.hearing.line_costs import align_line
from didactor.core.hearing.line_extras import extras_of
from didactor.core.hearing.line_notes import DOUBTED_FROM_MS, PEAK_AWAY_S, PEAK_NEAR_S, JudgedLine
from didactor.core.hearing.second_opinion import SecondOpinion
from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.units import A4_HZ

#: Cost per note above which a constant shift of everything is considered, and how much cheaper it must be.
SHIFT_FROM_COST, SHIFT_GAIN = 0.3, 0.5
#: Cost per note from which on the ear doubts its own events.
RECONSIDER_FROM_COST = 0.25
MIN_VOICED_SHARE = 0.03
#: A tone that is slid into begins up to so far from its pitch, for at most so long, and is not steady there (semitones, s, semitones).
SCOOP_SEMITONES, SCOOP_S, SCOOP_SPREAD = 2, 0.15, 0.2


def hear(samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument) -> Hearing | None:
    """Hear one line. Returns None where there is nothing with a pitch to hear.

    Args:
        samples: mono at ``RATE_HZ``.
        seconds_per_quarter: the target tempo, a first guess.
    """
    line = listen_to_line(samples, expectation, seconds_per_quarter, instrument)
    return None if line is None else hearing_of(line, instrument)


def hearing_of(line: JudgedLine, instrument: Instrument) -> Hearing:
    """What is to be said of a line that is laid over the score."""
    expectation = line.expectation
    events, alignment, shift = line.events, line.alignment, line.shift
    right = sum(
        1 for match in alignment.matches if any(events[match.event].midi == p + shift for p in expectation.notes[match.note].pitches)
    )
    solid = [e for e in events if not e.soft and e.duration_s > 0.1 and e.voicing > 0.7]
    return OneVoice(
        line=line,
        notes=tuple(line.note_heard(i, instrument) for i in range(len(expectation.notes))),
        extra=tuple(extras_of(line, instrument)),
        jumps=tuple(line.jumps()),
        seconds_per_quarter=alignment.seconds_per_quarter,
        share_of_notes=min(right, len({m.note for m in alignment.matches})) / len(expectation.notes),
        share_of_sounds=right / max(1, len(solid)),
        tuning=Tuning(a4_hz=A4_HZ * 2 ** (line.own_cents / 1200), offset_cents=line.own_cents, concentration=line.own_concentration),
        shift=shift,
        steadiness=steadiness(line.features),
    )


def listen_to_line(
    samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument
) -> JudgedLine | None:
    """Events and their alignment; None where there is nothing with a pitch."""
    # A player may go beyond what the table of instruments expects; what is written must be heard all the same.
    pitches = [n.sounding_midi for n in expectation.notes]
    instrument = replace(instrument, low=min([instrument.low, *pitches]), high=max([instrument.high, *pitches]))
    features = listen(samples, instrument)
    tuning_cents, concentration = find_tuning(features)
    events = find_events(features, instrument, tuning_cents)
    if float((features.voicing > 0.6).mean()) < MIN_VOICED_SHARE or not events:
        return None
    return laid_over(events, features, (tuning_cents, concentration), expectation, seconds_per_quarter, instrument)


def laid_over(
    events: list[Event],
    features: Features,
    tuning: tuple[float, float],
    expectation: Expectation,
    seconds_per_quarter: float,
    instrument: Instrument,
) -> JudgedLine:
    """Events (at least one, in order of time) laid over the score, whatever they are. ``tuning``: cents, and their concentration."""
    tuning_cents, concentration = tuning
    second = SecondOpinion(features, tuning_cents)
    alignment, shift = _align_with_shift(events, expectation, seconds_per_quarter)
    if alignment.cost_per_note > RECONSIDER_FROM_COST:
        # Something is wrong, perhaps with the ear: the note model hears all of it, and what it does not hear counts for little.
        doubted = [replace(e, soft=e.soft or not second.hears(e.midi, e.onset_s)) for e in events]
        again, other_shift = _align_with_shift(doubted, expectation, seconds_per_quarter)
        if again.cost_per_note < alignment.cost_per_note:
            events, alignment, shift = doubted, again, other_shift
    if not instrument.decays:
        events = _as_they_speak(features, events, alignment)
    if instrument.bends:
        events = with_their_scoops(events, alignment, [{p + shift for p in n.pitches} for n in expectation.notes])
    return JudgedLine(
        features=features,
        second=second,
        events=tuple(events),
        alignment=alignment,
        tuning_cents=tuning_cents,
        tuning_concentration=concentration,
        shift=shift,
        expectation=expectation,
    )


def _as_they_speak(features: Features, events: list[Event], alignment: Alignment) -> list[Event]:
    """The events that are notes, moved to where their tone speaks; never past their neighbours."""
    moved = list(events)
    for match in alignment.matches:
        event, before = events[match.event], moved[match.event - 1] if match.event else None
        sounding = before.pitch if before is not None and before.offset_s > event.onset_s - 0.4 else None
        # A repeated pitch shares all its partials with the one before, and must dip before it speaks again.
        repeated = sounding is not None and abs(sounding - event.pitch) < 0.7
        speaks_s = speaks_at(features, event.onset_s, event.pitch, None if repeated else sounding)
        if (before is None or speaks_s > before.onset_s + 0.03) and speaks_s < event.offset_s - 0.02:
            moved[match.event] = replace(event, onset_s=speaks_s, began_s=event.onset_s)
    return moved


def with_their_scoops(events: list[Event], alignment: Alignment, written: list[set[int]]) -> list[Event]:
    """The events, with each note begun where the tone is slid into: a scoop is neither an extra note, nor does it make one late, nor is
    it the note. ``written``: the pitches that each note may sound.
    """
    taken = {m.event: m.note for m in alignment.matches}
    result = list(events)
    for at, note_index in sorted(taken.items()):
        before, note, after = result[at - 1] if at else None, result[at], result[at + 1] if at + 1 < len(result) else None
        if before is not None and at - 1 not in taken and _slides_into(before, note):
            result[at - 1] = replace(before, soft=True)
            result[at] = replace(note, onset_s=before.onset_s, began_s=note.onset_s)
        elif (
            after is not None
            and at + 1 not in taken
            and _slides_into(note, after)
            and note.midi not in written[note_index]
            and after.midi in written[note_index]
        ):
            result[at] = replace(after, onset_s=note.onset_s, began_s=after.onset_s)
            result[at + 1] = replace(after, soft=True)
    return result


def _slides_into(scoop: Event, note: Event) -> bool:
    return (
        1 <= abs(scoop.midi - note.midi) <= SCOOP_SEMITONES
        and scoop.duration_s <= SCOOP_S
        and scoop.spread > SCOOP_SPREAD
        and note.onset_s - scoop.offset_s < TOUCHES_S
    )


@dataclass(frozen=True, kw_only=True)
class OneVoice(Hearing):
    """Keeps the line, for the second look at displaced onsets."""

    line: JudgedLine

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
