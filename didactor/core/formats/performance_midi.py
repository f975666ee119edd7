"""A take as a Standard MIDI File: what was heard, when it was heard, for any sequencer or notation program."""

from __future__ import annotations

import io

import mido
import numpy as np

from didactor.core.errors import PassageError
from didactor.core.formats.result import Result
from didactor.core.words import worded

#: 480 ticks to the beat of 120 a minute: 960 ticks are one second.
TICKS_PER_BEAT, TICKS_PER_S = 480, 960
USUAL_VELOCITY, VELOCITY_PER_DB, SHORTEST_S = 76, 3.0, 0.05


def performance_to_midi(result: Result) -> bytes:
    """The notes heard in a take, extra ones too, at their own times; wrong notes at the pitch that was heard.

    Args:
        result: what was heard.

    Raises:
        PassageError: nothing was judged in this take (unusable sound, no notation).
    """
    if result.notes is None:
        raise PassageError("midi.nothing_heard", worded("No notes were judged in this take, so there is nothing to write as MIDI."))
    file = mido.MidiFile(type=0, ticks_per_beat=TICKS_PER_BEAT)
    track = mido.MidiTrack()
    file.tracks.append(track)
    track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(120)))
    track.append(mido.Message("program_change", program=result.instrument.program))
    events: list[tuple[float, int, mido.Message]] = []
    for note in result.notes:
        if note.onset_s is not None and note.heard_midi is not None:
            end = max(note.offset_s or 0.0, note.onset_s + SHORTEST_S)
            events += _struck(note.heard_midi, note.onset_s, end, note.loudness_db or 0.0)
    for extra in result.extra or ():
        if extra.midi is not None:
            events += _struck(extra.midi, extra.onset_s, extra.onset_s + 4 * SHORTEST_S, 0.0)
    tick = 0
    for time_s, _, message in sorted(events, key=lambda e: (e[0], e[1])):
        at = max(tick, round(time_s * TICKS_PER_S))
        track.append(message.copy(time=at - tick))
        tick = at
    buffer = io.BytesIO()
    file.save(file=buffer)
    return buffer.getvalue()


def _struck(midi: int, begin_s: float, end_s: float, loudness_db: float) -> list[tuple[float, int, mido.Message]]:
    velocity = int(np.clip(USUAL_VELOCITY + VELOCITY_PER_DB * loudness_db, 20, 120))
    return [
        (begin_s, 1, mido.Message("note_on", note=midi, velocity=velocity)),
        (end_s, 0, mido.Message("note_off", note=midi, velocity=0)),
    ]
