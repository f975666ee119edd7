"""The evidence behind one note's judgement: its place in the take, and the notes around it as they are written."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from didactor.core.formats.result import ChordHeard, NoteResult, Result
from didactor.core.hearing.hearing import Status
from didactor.core.judging.words import midi_in_words, pitch_in_words
from didactor.core.score.spelling import MIDDLE_OF_KEY
from didactor.core.score.spelling import place as place_in_fifths
from didactor.core.sound.player.performance import PerformedNote
from didactor.core.sound.player.render import ADDITIVE, synthesise
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import wav_bytes
from didactor.core.units import name_to_midi
from didactor.core.words import worded

#: What is shown before and after a note, seconds.
BEFORE_S, AFTER_S = 0.7, 1.1
USUAL_S, LONGEST_S = 0.4, 1.6
#: Keys shown below the lower and above the higher of written and heard pitch.
BELOW, ABOVE = 6, 14
#: And where strokes are looked at.
STROKES_FROM, STROKES_TO = 43, 79


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """What is written and heard; sounding MIDI numbers, seconds of the recording, None where there is no such thing.

    ``transposition``: sounding minus written pitch, semitones. ``pitched`` False: strokes, whose pitch says nothing.
    """

    written_midi: int
    heard_midi: int | None
    due_s: float | None
    onset_s: float | None
    offset_s: float | None
    duration_s: float
    transposition: int
    pitched: bool = True

    @property
    def start_s(self) -> float:
        return max(0.0, self._middle_s - BEFORE_S)

    @property
    def end_s(self) -> float:
        return self._middle_s + AFTER_S

    @property
    def _middle_s(self) -> float:
        known = [t for t in (self.due_s, self.onset_s) if t is not None]
        return sum(known) / len(known) if known else BEFORE_S

    @property
    def low_midi(self) -> int:
        if not self.pitched:
            return STROKES_FROM
        return min(self.written_midi, self.heard_midi or self.written_midi) - BELOW

    @property
    def high_midi(self) -> int:
        if not self.pitched:
            return STROKES_TO
        return max(self.written_midi, self.heard_midi or self.written_midi) + ABOVE


def place_of(result: Result, index: int) -> Place | None:
    """Where a note of an analysis lies in the recording; None where it has no place (bars left out, the end not reached)."""
    notes = result.notes or ()
    note = notes[index]
    due, onset = due_s(result, index), note.onset_s
    if due is None and onset is None:
        return None
    begin = due if due is not None else onset or 0.0
    following = [t for i in range(index + 1, min(index + 8, len(notes))) if (t := due_s(result, i)) is not None and t > begin + 0.03]
    shift = note.sounding_midi - name_to_midi(note.written_pitch)
    return Place(
        written_midi=note.sounding_midi,
        heard_midi=note.heard_midi,
        due_s=due,
        onset_s=onset,
        offset_s=note.offset_s,
        duration_s=min(LONGEST_S, following[0] - begin) if following else USUAL_S,
        transposition=shift,
        pitched=result.by_pitch,
    )


def due_s(result: Result, index: int) -> float | None:
    """When a note was due by the take's own pulse: its onset less its displacement, or between the beats around it."""
    note = (result.notes or ())[index]
    if note.onset_s is not None and note.early_late_ms is not None:
        return float(note.onset_s - note.early_late_ms / 1000)
    curve = result.tempo.curve if result.tempo else ()
    here = [k for k, p in enumerate(curve) if (p.bar, p.pass_) == (note.bar, note.pass_) and p.beat <= note.beat + 1e-6]
    if not here:
        return None
    point = curve[here[-1]]
    return float(point.time_s + (note.beat - point.beat) * 60 / point.qpm)


def as_written(result: Result, place: Place) -> bytes:
    """The notes around a place as they are written, at the take's own pulse: WAV, as long as what is shown."""
    placed = [(t, n) for i, n in enumerate(result.notes or ()) if (t := due_s(result, i)) is not None]
    inside = sorted(((t, n) for t, n in placed if place.start_s - 0.05 <= t < place.end_s - 0.05), key=lambda pair: pair[0])
    notes = []
    for number, (begin, note) in enumerate(inside):
        later = [t for t, _ in inside[number + 1 :] if t > begin + 0.03]
        end = later[0] if later else begin + place.duration_s
        at = max(0.0, begin - place.start_s)
        notes.append(
            PerformedNote(
                id=note.id,
                pass_=note.pass_,
                onset_s=at,
                offset_s=at + max(0.08, 0.92 * (end - begin)),
                midi=note.sounding_midi,
                cents=0.0,
                velocity=76,
                expected_midi=note.sounding_midi,
                quarters=0.0,
                staff=note.staff,
                stroke=not place.pitched,
            )
        )
    length = int((place.end_s - place.start_s) * SYNTH_RATE_HZ)
    sound = synthesise(notes, result.instrument, ADDITIVE) if notes else np.zeros(length, dtype=np.float32)
    return wav_bytes(np.pad(sound, (0, max(0, length - len(sound))))[:length])


def evidence_in_words(result: Result, index: int, place: Place, *, figures: bool = True) -> list[tuple[str, str]]:
    """(what, how much) about one note, as far as it is known; without ``figures`` only what is written and what was heard."""
    note = (result.notes or ())[index]
    facts = [(worded("Written"), pitch_in_words(note.written_pitch))] if place.pitched else []
    chord = next((c for c in result.chords or () if (c.bar, c.pass_, c.beat) == (note.bar, note.pass_, note.beat)), None)
    if chord is not None:
        facts += [(worded("Written"), chord.written), (worded("Heard"), chord.heard or "no chord that can be named")]
    elif not place.pitched:
        facts.append((worded("Heard"), "no stroke" if note.status is Status.MISSED else "a stroke"))
    elif note.heard_midi is not None and note.heard_midi != note.sounding_midi:
        facts.append((worded("Heard"), midi_in_words(note.heard_midi - place.transposition, _fifths(result))))
    elif note.status is Status.CORRECT:
        facts.append((worded("Heard"), worded("the same")))
    elif note.status is Status.MISSED:
        facts.append((worded("Heard"), worded("nothing at this pitch begins here")))
    if note.status is Status.UNCERTAIN:
        facts.append((worded("Not judged"), note.reason or worded("the sound does not tell")))
    return facts + _figures(note, chord) if figures else facts


def _fifths(result: Result) -> int:
    """The key signature in whose middle the written pitches lie, on the line of fifths; a result does not hold the key itself."""
    names = {note.written_pitch[:-1] for note in result.notes or ()}
    return (
        round(sum(place_in_fifths(name[0], name.count("#") - name[1:].count("b")) for name in names) / max(1, len(names))) - MIDDLE_OF_KEY
    )


def _figures(note: NoteResult, chord: ChordHeard | None) -> list[tuple[str, str]]:
    facts: list[tuple[str, str]] = []
    if note.early_late_ms is not None:
        facts.append(
            (
                worded("Begins"),
                (
                    worded("{early_late_ms:.0f} ms early, by the take's own pulse", early_late_ms=abs(note.early_late_ms))
                    if note.early_late_ms < 0
                    else worded("{early_late_ms:.0f} ms late, by the take's own pulse", early_late_ms=abs(note.early_late_ms))
                ),
            )
        )
    if note.cents is not None:
        facts.append(
            (
                worded("In tune"),
                (
                    worded("{cents:.0f} cents sharp, by the take's own tuning", cents=abs(note.cents))
                    if note.cents > 0
                    else worded("{cents:.0f} cents flat, by the take's own tuning", cents=abs(note.cents))
                ),
            )
        )
    if note.length_ratio is not None:
        facts.append((worded("Length"), worded("{length_ratio:.0f} % of what is written", length_ratio=100 * note.length_ratio)))
    if note.loudness_db is not None:
        facts.append((worded("Loudness"), worded("{loudness_db:+.0f} dB against the take's usual", loudness_db=note.loudness_db)))
    if note.status is not Status.UNCERTAIN:
        sure = note.confidence if chord is None else chord.confidence
        facts.append((worded("How sure"), f"{min(99.0, 100 * sure):.0f} %"))
    return facts
