"""Standard MIDI files in: notes laid on a grid and written down, a part for each track and channel.

MIDI knows no spelling, no rests and no bars beyond its metre: pitches are spelled in the file's key, onsets go to the nearest
sixteenth or triplet eighth, notes last to the next one unless a clear silence follows. One voice a part: what overlaps is cut.
"""

from __future__ import annotations

import io
from bisect import bisect_right
from dataclasses import dataclass, field
from fractions import Fraction

import mido

from didactor.core.errors import Problem, ScoreError
from didactor.core.score.read.formats import Format, register
from didactor.core.score.spelling import simplest
from didactor.core.score.write.draft import DraftBar, DraftNote, DraftPart, Pitch, without_control_signs, write_draft
from didactor.core.units import STEP_SEMITONES, name_to_midi

MAX_NOTES, MAX_BARS = 60_000, 3000
DRUMS = 9
#: Onsets go to one of these parts of a quarter, whichever is nearer; triplets only where they are clearly nearer.
STRAIGHT, TRIPLET, CLEARLY = Fraction(1, 4), Fraction(1, 3), Fraction(1, 24)
#: A gap shorter than this, and shorter than half the note, is the player's articulation, not a rest.
SMALL_GAP = Fraction(1, 2)
_KEYS = {
    "Cb": -7,
    "Gb": -6,
    "Db": -5,
    "Ab": -4,
    "Eb": -3,
    "Bb": -2,
    "F": -1,
    "C": 0,
    "G": 1,
    "D": 2,
    "A": 3,
    "E": 4,
    "B": 5,
    "F#": 6,
    "C#": 7,
}


@dataclass
class _Track:
    name: str = ""
    notes: list[tuple[Fraction, Fraction, int]] = field(default_factory=list)


def midi_to_musicxml(data: bytes) -> tuple[bytes, list[Problem]]:
    """A MIDI file to MusicXML, and what was left out.

    Raises:
        ScoreError: damaged, timed in seconds, or without notes.
    """
    try:
        file = mido.MidiFile(file=io.BytesIO(data), clip=True)
    except (OSError, EOFError, ValueError, KeyError, IndexError, TypeError) as error:
        raise ScoreError("score.bad_midi", "The MIDI file is damaged and cannot be read. Export it again.") from error
    if file.ticks_per_beat <= 0 or file.ticks_per_beat & 0x8000:
        raise ScoreError(
            "score.bad_midi", "This MIDI file counts seconds, not beats, so there are no bars to write. Export it with a tempo."
        )
    tracks, metres, fifths, tempo = _gather(file)
    voices = [t for t in tracks if t.notes]
    if not voices:
        raise ScoreError("score.no_notes", "There is not a single note in this MIDI file (drums are left out).")
    problems = []
    parts = []
    for number, track in enumerate(voices, start=1):
        notes, cut = _one_voice(track.notes)
        if cut:
            problems.append(Problem(code="score.midi", text=f"{track.name or f'Track {number}'}: {cut} overlapping notes were shortened."))
        parts.append(DraftPart(name=track.name or f"Track {number}", bars=_bars(notes, metres, fifths, tempo), clef=_clef(notes)))
    return write_draft(parts), problems


def _gather(file: mido.MidiFile) -> tuple[list[_Track], list[tuple[Fraction, tuple[int, int]]], int, float | None]:
    found: dict[tuple[int, int], _Track] = {}
    metres: dict[Fraction, tuple[int, int]] = {}
    fifths, tempo = 0, None
    count = 0
    for index, track in enumerate(file.tracks):
        at, name = 0, ""
        sounding: dict[tuple[int, int], int] = {}
        for message in track:
            at += message.time
            quarters = Fraction(at, file.ticks_per_beat)
            if message.type == "track_name":
                name = without_control_signs(message.name).strip()[:60]
            elif message.type == "time_signature" and 0 < message.numerator <= 64 and message.denominator in (1, 2, 4, 8, 16, 32):
                metres.setdefault(quarters, (message.numerator, message.denominator))
            elif message.type == "key_signature" and fifths == 0:
                fifths = _KEYS.get(message.key.rstrip("m"), 0) - (3 if message.key.endswith("m") else 0)
            elif message.type == "set_tempo" and tempo is None:
                tempo = round(mido.tempo2bpm(message.tempo), 1)
            elif message.type in ("note_on", "note_off") and message.channel != DRUMS:
                key = (message.channel, message.note)
                if key in sounding:
                    begin = Fraction(sounding.pop(key), file.ticks_per_beat)
                    found.setdefault((index, message.channel), _Track(name=name)).notes.append((begin, quarters - begin, message.note))
                    count += 1
                if message.type == "note_on" and message.velocity:
                    sounding[key] = at
            if count > MAX_NOTES:
                raise ScoreError("score.too_long", f"The MIDI file has more than {MAX_NOTES} notes. Split it and try again.")
    return list(found.values()), sorted(metres.items()) or [(Fraction(0), (4, 4))], max(-7, min(7, fifths)), tempo


def _on_grid(time: Fraction) -> Fraction:
    straight, triplet = (round(time / step) * step for step in (STRAIGHT, TRIPLET))
    return triplet if abs(time - triplet) + CLEARLY < abs(time - straight) else straight


def _one_voice(notes: list[tuple[Fraction, Fraction, int]]) -> tuple[list[tuple[Fraction, Fraction, list[int]]], int]:
    """Chords one after the other as (onset, length, pitches), and how many had to be shortened."""
    chords: dict[Fraction, list[tuple[Fraction, int]]] = {}
    for begin, length, midi in notes:
        chords.setdefault(_on_grid(begin), []).append((length, midi))
    onsets = sorted(chords)
    result, cut = [], 0
    for number, onset in enumerate(onsets):
        room = onsets[number + 1] - onset if number + 1 < len(onsets) else None
        wanted = max(STRAIGHT, _on_grid(onset + max(length for length, _ in chords[onset])) - onset)
        if room is not None:
            cut += wanted > room
            gap = room - wanted
            wanted = room if gap < 0 or gap < min(SMALL_GAP, wanted / 2 + Fraction(1, 8)) else wanted
        result.append((onset, wanted, sorted({midi for _, midi in chords[onset]})))
    return result, cut


def _bars(
    notes: list[tuple[Fraction, Fraction, list[int]]], metres: list[tuple[Fraction, tuple[int, int]]], fifths: int, tempo: float | None
) -> list[DraftBar]:
    end = max(onset + length for onset, length, _ in notes)
    starts: list[Fraction] = []
    bars: list[DraftBar] = []
    at, metre = Fraction(0), None
    while at < end:
        own = [m for when, m in metres if when <= at][-1:] or [metres[0][1]]
        bar = DraftBar(metre=(*own[0], "") if own[0] != metre else None)
        metre = own[0]
        starts.append(at)
        bars.append(bar)
        at += Fraction(4 * metre[0], metre[1])
        if len(bars) > MAX_BARS:
            raise ScoreError("score.too_long", f"The MIDI file comes to more than {MAX_BARS} bars.")
    bars[0].fifths, bars[0].tempo_qpm = fifths, tempo
    starts.append(at)
    filled = Fraction(0)
    for onset, length, midis in [*notes, (starts[-1], Fraction(0), [])]:
        _put(bars, starts, filled, onset - filled, [])
        if midis:
            _put(bars, starts, onset, length, [_pitch(m, fifths) for m in midis])
        filled = onset + length
    bars[-1].style = "light-heavy"
    return bars


def _put(bars: list[DraftBar], starts: list[Fraction], at: Fraction, length: Fraction, pitches: list[Pitch]) -> None:
    """A note or rest, tied over the bar lines and off the triplet grid's edges that it crosses."""
    first = True
    while length > 0:
        index = bisect_right(starts, at) - 1
        here = min(length, starts[index + 1] - at)
        to_beat = -at % 1
        thirds = at.denominator % 3 == 0 or here.denominator % 3 == 0
        if thirds and (to_beat or here > 1):
            here = min(here, to_beat or Fraction(int(here)) or here)
        thirds = here.denominator % 3 == 0
        more = here < length
        own = [Pitch(step=p.step, alter=p.alter, octave=p.octave, tie_start=more, tie_stop=not first) for p in pitches]
        note = DraftNote(nominal=here * Fraction(3, 2) if thirds else here, pitches=own)
        if thirds:
            note.actual, note.normal = 3, 2
        bars[index].notes.append(note)
        at, length, first = at + here, length - here, False


def _pitch(midi: int, fifths: int) -> Pitch:
    step, alter = simplest(midi, fifths)
    return Pitch(step=step, alter=alter, octave=(midi - alter - STEP_SEMITONES[step]) // 12 - 1)


def _clef(notes: list[tuple[Fraction, Fraction, list[int]]]) -> str:
    pitches = sorted(m for _, _, midis in notes for m in midis)
    return "bass" if pitches[len(pitches) // 2] < name_to_midi("A3") else "treble"


register(
    Format(
        title="MIDI",
        suffixes=(".mid", ".midi"),
        place=20,
        recognises=lambda sample: sample.data.startswith(b"MThd") or (sample.data.startswith(b"RIFF") and sample.data[8:12] == b"RMID"),
        read=lambda sample: [midi_to_musicxml(sample.data[sample.data.find(b"MThd") :])],
    )
)
