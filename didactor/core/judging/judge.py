"""Alignment to evidence: a status for every expected note, what was extra, and the readings of tempo and pulse.

Before a note is called wrong, missed or extra, the sound is looked at once more: an accusation needs clear evidence, and
where it is missing the note is ``uncertain``, with a reason.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from didactor.core.hearing.alignment import Alignment
from didactor.core.hearing.events import Event
from didactor.core.hearing.evidence_of_pitch import (
    attack_s,
    octave_is_confirmed,
    onset_is_confirmed,
    pitch_is_present,
    span_is_explained,
)
from didactor.core.hearing.features import Features
from didactor.core.instruments import Instrument
from didactor.core.judging.evidence import Evidence, ExtraNote, NoteJudgement, Status, Tuning
from didactor.core.judging.pulse import Pulse, read_pulse
from didactor.core.judging.readings import read_hesitations, read_pairs, read_restarts, read_skipped, read_tempo
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from didactor.core.units import A4_HZ

#: An event that accuses must last this long and be this clearly pitched.
SOLID_S, SOLID_VOICING, SOLID_SPREAD = 0.07, 0.65, 0.7
EXTRA_MIN_S, EXTRA_BELOW_DB = 0.08, 20.0
SAME_SOUND_SEMITONES = 0.8
MIN_CENTS_S, MIN_CENTS_FRAMES = 0.12, 6
LONG_NOTE_BEATS = 2.0
#: Displacements from here on are looked at twice before they are believed.
DOUBTED_FROM_MS = 40.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Heard:
    """What the ear delivers to the judge. ``shift``: the whole take sounds that many semitones from what is expected."""

    features: Features
    events: tuple[Event, ...]
    alignment: Alignment
    tuning_cents: float
    tuning_concentration: float
    shift: int


def judge(heard: Heard, expectation: Expectation, targets: Targets, instrument: Instrument) -> Evidence:
    """Judge one take by its targets' stage."""
    final = _final_matches(heard.alignment)
    pulse, pulse_notes = _pulse(heard, expectation, final)
    notes = [_judge_note(i, heard, expectation, instrument, final, pulse, pulse_notes) for i in range(len(expectation.notes))]
    if pulse is not None:
        notes = _place(notes, pulse, pulse_notes, expectation, targets, heard)
    return Evidence(
        expectation=expectation,
        targets=targets,
        instrument=instrument,
        notes=tuple(notes),
        extra=tuple(_extras(heard, expectation)),
        tempo=read_tempo(pulse, pulse_notes, expectation, targets),
        hesitations=tuple(read_hesitations(pulse, pulse_notes, expectation)),
        restarts=tuple(read_restarts(heard.events, heard.alignment, expectation)),
        skipped_bars=tuple(read_skipped(notes, expectation)),
        pairs=tuple(read_pairs(notes, expectation)),
        tuning=Tuning(
            a4_hz=A4_HZ * 2 ** (heard.tuning_cents / 1200), offset_cents=heard.tuning_cents, concentration=heard.tuning_concentration
        ),
        shift=heard.shift,
        events=heard.events,
    )


def _final_matches(alignment: Alignment) -> dict[int, int]:
    """Note index to event index; a note played again after a restart counts as played last."""
    return {match.note: match.event for match in alignment.matches}


def _pulse(heard: Heard, expectation: Expectation, final: dict[int, int]) -> tuple[Pulse | None, list[int]]:
    """The pulse through the matched, timed notes, and the note index of each of its onsets."""
    stretch, stretches = 0, {}
    for match in heard.alignment.matches:
        stretch += match.jump
        stretches[match.note] = stretch
    used: list[int] = []
    for index in sorted(final):
        note, event = expectation.notes[index], heard.events[final[index]]
        if note.grace or (event.soft and _repeats(expectation, index)):
            continue
        if used and note.onset_quarters <= expectation.notes[used[-1]].onset_quarters + 1e-6:
            continue
        if used and event.onset_s <= heard.events[final[used[-1]]].onset_s:
            continue
        used.append(index)
    quarters = np.array([expectation.notes[i].onset_quarters for i in used])
    times = np.array([heard.events[final[i]].onset_s for i in used])
    joints = np.array([k > 0 and stretches[used[k]] != stretches[used[k - 1]] for k in range(len(used))], dtype=bool)
    beats = np.array([expectation.bar_at(q).beat_quarters for q in quarters])
    return read_pulse(quarters, times, joints, beats, heard.alignment.seconds_per_quarter), used


def _repeats(expectation: Expectation, index: int) -> bool:
    return index > 0 and expectation.notes[index - 1].sounding_midi == expectation.notes[index].sounding_midi


def _judge_note(
    index: int,
    heard: Heard,
    expectation: Expectation,
    instrument: Instrument,
    final: dict[int, int],
    pulse: Pulse | None,
    pulse_notes: list[int],
) -> NoteJudgement:
    note = expectation.notes[index]
    if index not in final:
        return _judge_unmatched(index, heard, expectation, final, pulse)
    event = heard.events[final[index]]
    wanted = [p + heard.shift for p in note.pitches]
    distance = min((event.midi - p for p in wanted), key=abs)
    confidence = _confidence(event)
    status, reason = Status.CORRECT, None
    if distance != 0:
        end_s = _offset(final[index], heard, final)
        status, reason = _accuse(event, end_s, distance, min(wanted, key=lambda p: abs(event.midi - p)), heard)
    cents = None
    if status is Status.CORRECT and instrument.bends and distance == 0 and event.duration_s >= MIN_CENTS_S and event.spread < 0.5:
        cents = _cents(heard, event, _offset(final[index], heard, final))
    loud = float(np.median([e.level_db for e in heard.events]))
    return NoteJudgement(
        note=note,
        status=status,
        confidence=confidence if status is not Status.UNCERTAIN else min(confidence, 0.45),
        reason=reason,
        onset_s=event.onset_s,
        offset_s=_offset(final[index], heard, final),
        heard_midi=event.midi,
        cents=cents,
        loudness_db=event.level_db - loud,
    )


def _cents(heard: Heard, event: Event, offset_s: float) -> float | None:
    """Median deviation of the steady part of the whole note, from 20 % of its length on, against the take's tuning."""
    first = heard.features.f0_index(event.onset_s + 0.2 * (offset_s - event.onset_s))
    last = heard.features.f0_index(offset_s - 0.02)
    away = heard.features.f0_midi[first : last + 1] - event.midi - heard.tuning_cents / 100.0
    own = away[(heard.features.voicing[first : last + 1] > 0.6) & (np.abs(away) < 0.9)]
    return float(np.median(own)) * 100.0 if len(own) >= MIN_CENTS_FRAMES else None


def _offset(event_index: int, heard: Heard, final: dict[int, int]) -> float:
    """End of a note: later pieces of the same held sound that matched no note belong to it."""
    event = heard.events[event_index]
    taken = set(final.values())
    end = event.offset_s
    for later_index in range(event_index + 1, len(heard.events)):
        later = heard.events[later_index]
        if later_index in taken or later.midi != event.midi or later.onset_s - end > 0.05:
            break
        end = later.offset_s
    return end


def _accuse(event: Event, end_s: float, distance: int, wanted: int, heard: Heard) -> tuple[Status, str | None]:
    """Is a wrong pitch beyond doubt?"""
    if distance % 12 == 0:
        if octave_is_confirmed(heard.features, event, wanted, heard.tuning_cents):
            return Status.WRONG_PITCH, None
        return Status.UNCERTAIN, "the octave cannot be told apart in this recording"
    length_s = end_s - event.onset_s
    if length_s < SOLID_S or event.voicing < SOLID_VOICING or event.spread > SOLID_SPREAD:
        return Status.UNCERTAIN, "too short or too unclear to name its pitch"
    # Its edges may still hold, or already hold, a neighbour of the written pitch.
    inside = (event.onset_s + 0.3 * length_s, event.onset_s + 0.75 * length_s)
    if pitch_is_present(heard.features, wanted, *inside, heard.tuning_cents, frames=3):
        return Status.UNCERTAIN, "the written pitch is heard here too"
    return Status.WRONG_PITCH, None


def _judge_unmatched(index: int, heard: Heard, expectation: Expectation, final: dict[int, int], pulse: Pulse | None) -> NoteJudgement:
    note = expectation.notes[index]
    reason = None
    before = max((i for i in final if i < index), default=None)
    after = min((i for i in final if i > index), default=None)
    if note.grace:
        reason = "a grace note may pass too quickly to be heard apart"
    elif before is not None and _held_over(index, before, heard, expectation, final):
        reason = "not heard apart from the note before: the same pitch went on sounding"
    elif before is not None and after is not None and after - before <= 4:
        start, end = heard.events[final[before]].onset_s, heard.events[final[after]].onset_s
        neighbours = {expectation.notes[i].sounding_midi for i in (before, after)}
        if note.sounding_midi not in neighbours and pitch_is_present(
            heard.features, note.sounding_midi + heard.shift, start, end, heard.tuning_cents, frames=3
        ):
            reason = "something sounds at this pitch, too briefly to be sure"
        elif not _clearly_absent(index, before, after, heard, expectation, final):
            reason = "the sound is blurred here"
    status = Status.UNCERTAIN if reason else Status.MISSED
    return NoteJudgement(note=note, status=status, confidence=0.4 if reason else 0.8, reason=reason)


def _held_over(index: int, before: int, heard: Heard, expectation: Expectation, final: dict[int, int]) -> bool:
    """A repeated pitch without a fresh onset, while the sound goes on past where the repeat should begin."""
    note, previous = expectation.notes[index], expectation.notes[before]
    if any(expectation.notes[i].sounding_midi != note.sounding_midi for i in range(before, index)):
        return False
    begin = heard.events[final[before]].onset_s
    due = begin + heard.alignment.seconds_per_quarter * (note.onset_quarters - previous.onset_quarters)
    return _offset(final[before], heard, final) > due + 0.06


def _clearly_absent(index: int, before: int, after: int, heard: Heard, expectation: Expectation, final: dict[int, int]) -> bool:
    """Whether the time in which the note was due is filled by silence or by its neighbours, clearly."""
    notes, events = expectation.notes, heard.events
    first, last = events[final[before]], events[final[after]]
    span = notes[after].onset_quarters - notes[before].onset_quarters
    per_quarter = (last.onset_s - first.onset_s) / span if span > 0 else heard.alignment.seconds_per_quarter
    due_s = first.onset_s + per_quarter * (notes[index].onset_quarters - notes[before].onset_quarters)
    length_s = min(0.3, max(0.06, 0.8 * per_quarter * notes[index].duration_quarters))
    around = [e.pitch for e in events if e.offset_s > due_s - 0.1 and e.onset_s < due_s + length_s + 0.1]
    quiet_db = float(np.median([events[i].level_db for i in final.values()])) - 25.0
    return span_is_explained(heard.features, due_s, due_s + length_s, around, quiet_db)


def _confidence(event: Event) -> float:
    clear = min(1.0, event.voicing) * (1.0 - min(0.5, max(0.0, event.spread - 0.2)))
    return float(np.clip(clear * min(1.0, 0.5 + event.duration_s / 0.16), 0.05, 0.99))


def _place(
    notes: list[NoteJudgement], pulse: Pulse, used: list[int], expectation: Expectation, targets: Targets, heard: Heard
) -> list[NoteJudgement]:
    """Add placement (where the stage judges it) and length to the matched notes."""
    from dataclasses import replace

    judged = targets.stage_rules.placement is not None
    result = list(notes)
    for k, index in enumerate(used):
        item = result[index]
        if item.status is Status.UNCERTAIN:
            continue
        beat_s = float(pulse.slope[k]) * expectation.bar_at(item.note.onset_quarters).beat_quarters
        residual = float(pulse.residual_s[k])
        if (
            abs(residual) * 1000 > DOUBTED_FROM_MS
            and item.status is Status.CORRECT
            and not _onset_holds(index, k, pulse, heard, expectation)
        ):
            result[index] = replace(item, reason="its beginning cannot be heard apart here")
            continue
        ratio = None
        written_s = item.note.duration_quarters * float(pulse.slope[k])
        if targets.stage_rules.length and written_s >= LONG_NOTE_BEATS * beat_s and item.offset_s is not None and item.onset_s is not None:
            ratio = (item.offset_s - item.onset_s) / written_s
        result[index] = replace(
            item,
            early_late_ms=1000 * residual if judged else None,
            early_late_beats=residual / float(pulse.slope[k]) if judged and pulse.slope[k] > 0 else None,
            length_ratio=ratio,
        )
    return result


def _onset_holds(index: int, k: int, pulse: Pulse, heard: Heard, expectation: Expectation) -> bool:
    """A second look at a displaced onset, so that a blurred attack is not taken for a late note."""
    onset_s = float(pulse.times[k])
    if pulse.hesitation[k]:
        return True
    own = min(heard.events, key=lambda e: abs(e.onset_s - onset_s))
    # A slow attack leaves open when the note begins: by about the time it takes to speak.
    if abs(float(pulse.residual_s[k])) < DOUBTED_FROM_MS / 1000 + attack_s(heard.features, own):
        return False
    pitch = expectation.notes[index].sounding_midi + heard.shift + heard.tuning_cents / 100.0
    sounding_before = [e for e in heard.events if e.onset_s < onset_s - 0.03 and e.offset_s > onset_s - 0.4]
    before = sounding_before[-1] if sounding_before else None
    if before is not None and before.midi == round(pitch):
        return not own.soft and own.strength > 0.8
    due_s = onset_s - float(pulse.residual_s[k])
    return onset_is_confirmed(heard.features, pitch, None if before is None else before.pitch, onset_s, due_s)


def _extras(heard: Heard, expectation: Expectation) -> list[ExtraNote]:
    """Sounds between the first and the last match that belong to no note and are beyond doubt."""
    matches = heard.alignment.matches
    if not matches:
        return []
    taken = {m.event for m in matches}
    levels = float(np.median([heard.events[i].level_db for i in taken]))
    extras = []
    for index in range(matches[0].event + 1, matches[-1].event):
        event, before = heard.events[index], heard.events[index - 1]
        if index in taken or event.soft or event.duration_s < EXTRA_MIN_S or event.voicing < 0.85:
            continue
        if event.level_db < levels - EXTRA_BELOW_DB or event.strength < 0.3 or event.spread > SOLID_SPREAD:
            continue
        after = heard.events[index + 1]
        if any(abs(event.midi - o.midi) in (0, 12, 19, 24) or abs(event.pitch - o.pitch) < SAME_SOUND_SEMITONES for o in (before, after)):
            continue  # a partial or a second piece of a neighbour, or its glide
        previous = max((m for m in matches if m.event < index), key=lambda m: m.event)
        note = expectation.notes[previous.note]
        elapsed = (event.onset_s - heard.events[previous.event].onset_s) / max(heard.alignment.seconds_per_quarter, 1e-3)
        position = min(note.onset_quarters + elapsed, expectation.length_quarters)
        bar = expectation.bar_at(position)
        extras.append(
            ExtraNote(
                onset_s=event.onset_s, midi=event.midi - heard.shift, bar=bar.number, pass_=bar.pass_, beat=position - bar.start_quarters
            )
        )
    return extras
