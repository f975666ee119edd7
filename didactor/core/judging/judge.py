"""What was heard, against the targets: pulse, placement, lengths and the readings that the checks look at."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from didactor.core.hearing.hearing import Hearing, NoteHeard, Status
from didactor.core.instruments import Instrument
from didactor.core.judging.allowances import allowing, is_broken, unexplained
from didactor.core.judging.evidence import Evidence, NoteJudgement
from didactor.core.judging.pulse import Pulse, read_pulse
from didactor.core.judging.readings import read_bends, read_hesitations, read_pairs, read_restarts, read_skipped, read_tempo
from didactor.core.judging.readings_of_sound import Opening, read_apart, read_entry, read_hands, read_zones
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from didactor.core.words import worded

#: Lengths are judged of notes of so many metrical beats and more: shorter ones are shaped by touch.
LONG_NOTE_BEATS = 2.0
#: A player's touch is told by so many notes; these signs shorten a note.
FEWEST_FOR_TOUCH = 4
SHORTENING = {"staccato", "staccatissimo", "breath-mark", "spiccato", "caesura"}


def judge(
    hearing: Hearing,
    expectation: Expectation,
    targets: Targets,
    instrument: Instrument,
    levels_hold: bool = True,
    opening: Opening | None = None,
) -> Evidence:
    """Judge one take by its targets' stage.

    Args:
        expectation: what is written; where the rhythm was heard, that counts as written.
        levels_hold: False where the recorder rode the gain: loudness tells nothing then.
        opening: when the passage was due to begin, where that is known.
    """
    written, expectation = expectation, hearing.rhythm or expectation
    pulse, moments = _pulse(hearing, expectation, targets)
    notes = [
        NoteJudgement(
            note=note,
            status=heard.status,
            confidence=heard.confidence,
            reason=heard.reason,
            onset_s=heard.onset_s,
            offset_s=heard.offset_s,
            heard_midi=heard.heard_midi,
            cents=heard.cents,
            loudness_db=heard.loudness_db,
            own_db=heard.own_db,
            clearness=heard.clearness,
            stretch=heard.stretch,
            timed=heard.timed and heard.status is Status.CORRECT,
        )
        for note, heard in zip(expectation.notes, map(allowing, expectation.notes, hearing.notes), strict=True)
    ]
    if pulse is not None:
        _place(notes, pulse, moments, hearing, expectation, targets)
    bends = read_bends(pulse, expectation)
    hesitations = tuple(read_hesitations(pulse, [group[0] for group in moments], expectation))
    restarts = tuple(read_restarts(hearing.jumps, expectation))
    entry = read_entry(hearing, expectation, opening)
    return Evidence(
        expectation=expectation,
        targets=targets,
        instrument=instrument,
        notes=tuple(notes),
        extra=unexplained(hearing, expectation),
        tempo=read_tempo(pulse, expectation, targets, bends, inferred=hearing.rhythm is not None),
        hesitations=hesitations,
        restarts=restarts,
        skipped_bars=tuple(read_skipped(notes, expectation)),
        pairs=tuple(read_pairs(notes, expectation)),
        tuning=hearing.tuning,
        shift=hearing.shift,
        chords=hearing.chords,
        count=hearing.count,
        hands=read_hands(notes, expectation),
        zones=read_zones(notes) if levels_hold else None,
        entry=entry,
        # Who began again somewhere has lost the accompaniment, which is told by itself.
        apart=None if restarts else read_apart(notes, expectation, opening, entry, hesitations),
        inferred=hearing.rhythm is not None,
        scatter_ms=1000 * pulse.scatter_s if pulse else 0.0,
        touch=_touch(notes, pulse, moments, expectation),
        bends=tuple(bends),
        written_quarters=written.length_quarters if hearing.rhythm is not None else None,
    )


def _pulse(hearing: Hearing, expectation: Expectation, targets: Targets) -> tuple[Pulse | None, list[list[int]]]:
    """The pulse through the timed notes, and for each of its onsets the notes that begin there together."""
    moments: list[list[int]] = []
    # An allowed closing ritardando has no pulse to be measured against.
    closing = expectation.length_quarters - targets.ritardando_quarters + 1e-6 if targets.ritardando_quarters else float("inf")
    for index, heard in enumerate(hearing.notes):
        quarters = expectation.notes[index].onset_quarters
        if not heard.timed or heard.onset_s is None or quarters > closing:
            continue
        if moments and abs(expectation.notes[moments[-1][0]].onset_quarters - quarters) < 1e-6:
            moments[-1].append(index)
        else:
            moments.append([index])
    onsets = [float(np.median([hearing.notes[i].onset_s or 0.0 for i in group])) for group in moments]
    # Time runs forward: an onset before its predecessor's belongs to something else.
    kept: list[int] = []
    for k in range(len(moments)):
        if not kept or onsets[k] > onsets[kept[-1]]:
            kept.append(k)
    groups = [moments[k] for k in kept]
    places = np.array([expectation.notes[group[0]].onset_quarters for group in groups])
    times = np.array([onsets[k] for k in kept])
    stretches = [hearing.notes[group[0]].stretch for group in groups]
    held = [any("fermata" in expectation.notes[index].articulations for index in group) for group in groups]
    # A hold takes time out of the pulse as a jump does.
    joints = np.array([k > 0 and (stretches[k] != stretches[k - 1] or held[k - 1]) for k in range(len(groups))], dtype=bool)
    beats = np.array([expectation.bar_at(q).beat_quarters for q in places])
    return read_pulse(places, times, joints, beats, hearing.seconds_per_quarter), groups


def _place(
    notes: list[NoteJudgement], pulse: Pulse, moments: list[list[int]], hearing: Hearing, expectation: Expectation, targets: Targets
) -> None:
    """Add placement (where the stage judges it) and length to the notes that the pulse rests on."""
    judged = targets.stage_rules.placement is not None
    usual = _usual_between_readings(hearing)
    for k, group in enumerate(moments):
        slope = float(pulse.slope[k])
        beat_quarters = expectation.bar_at(float(pulse.quarters[k])).beat_quarters
        for index in group:
            item = notes[index]
            if item.status is Status.UNCERTAIN or item.onset_s is None or is_broken(item.note):
                continue
            residual = _least(float(pulse.displaced_s[k]) + item.onset_s - float(pulse.times[k]), hearing.notes[index], usual)
            if item.status is Status.CORRECT and not pulse.hesitation[k] and not hearing.onset_holds(index, residual):
                notes[index] = replace(item, reason=worded("its beginning cannot be heard apart here"))
                continue
            notes[index] = replace(
                item,
                early_late_ms=1000 * residual if judged else None,
                early_late_quarters=residual / slope if judged and slope > 0 else None,
                unsure_ms=1000 * float(pulse.unsure_s[k]),
                length_ratio=_length_ratio(item, slope, beat_quarters, targets),
            )


def _usual_between_readings(hearing: Hearing) -> float:
    """By how much the other reading of an onset mostly differs: that is the instrument's way to begin, and no displacement."""
    known = [n.began_s - n.onset_s for n in hearing.notes if n.began_s is not None and n.onset_s is not None]
    return float(np.median(known)) if known else 0.0


def _least(residual_s: float, heard: NoteHeard, usual_s: float) -> float:
    """How far a note lies from the pulse by the reading of its onset that speaks for the player; 0 where the readings lie around it."""
    if heard.began_s is None or heard.onset_s is None:
        return residual_s
    other_s = residual_s + heard.began_s - heard.onset_s - usual_s
    return 0.0 if residual_s * other_s <= 0 else min(residual_s, other_s, key=abs)


def _touch(notes: list[NoteJudgement], pulse: Pulse | None, moments: list[list[int]], expectation: Expectation) -> float | None:
    """The median of sounding over written length, of notes of a beat and more that neither a slur nor a sign shapes."""
    shares = []
    for k, group in enumerate(moments if pulse is not None else ()):
        assert pulse is not None
        for item in (notes[i] for i in group):
            note = item.note
            beat_quarters = expectation.bar_at(note.onset_quarters).beat_quarters
            plain = not note.slurred_to_next and not SHORTENING & set(note.articulations)
            if plain and note.duration_quarters >= beat_quarters - 1e-6 and item.onset_s is not None and item.offset_s is not None:
                shares.append((item.offset_s - item.onset_s) / max(note.duration_quarters * float(pulse.slope[k]), 1e-3))
    return float(np.median(shares)) if len(shares) >= FEWEST_FOR_TOUCH else None


def _length_ratio(item: NoteJudgement, slope: float, beat_quarters: float, targets: Targets) -> float | None:
    """Sounding over written length, for notes of two metrical beats and more."""
    written_s = item.note.duration_quarters * slope
    is_long = item.note.duration_quarters >= LONG_NOTE_BEATS * beat_quarters - 1e-6
    if not targets.stage_rules.length or not is_long or item.offset_s is None or item.onset_s is None:
        return None
    return (item.offset_s - item.onset_s) / written_s if written_s > 0 else None
