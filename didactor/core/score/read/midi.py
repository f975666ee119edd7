"""Standard MIDI files in: notes laid on a grid and written down, a part for each track and channel.

MIDI knows no spelling, no rests and no bars beyond its metre: pitches are spelled in the file's key, notes last to the next one unless a
clear silence follows. One voice a part: what overlaps is cut. In a file that was written rather than played, every quarter has the
coarsest division that all its notes lie on, down to sixty-fourths and septuplets; in one that was played, onsets go to the nearest
sixteenth or triplet eighth. Drums become strokes on one line.

Times are whole numbers, ``UNIT`` a quarter, which every division divides.
"""

from __future__ import annotations

import io
from bisect import bisect_right
from dataclasses import dataclass, field
from fractions import Fraction
from functools import lru_cache

import mido

from didactor.core.errors import Problem, ScoreError
from didactor.core.instruments import find_instrument
from didactor.core.score.read.formats import Format, register
from didactor.core.score.spelling import simplest
from didactor.core.score.write.draft import DraftBar, DraftNote, DraftPart, Pitch, without_control_signs, write_draft
from didactor.core.units import STEP_SEMITONES, name_to_midi
from didactor.core.words import worded

MAX_NOTES, MAX_BARS = 60_000, 3000
DRUMS = 9
UNIT = 1680
#: Of what was played, onsets go to a sixteenth or a triplet eighth, whichever is nearer; triplets only where they are clearly nearer.
STRAIGHT, TRIPLET, CLEARLY = UNIT // 4, UNIT // 3, UNIT // 24
#: Into how many a quarter may be divided, the likelier first. A file was written, not played, when this share of its onsets lies on one
#: of them to the tick; by chance 7 % do at 480 ticks a quarter, 35 % at 96.
DIVISIONS, WRITTEN_SHARE = (4, 3, 8, 6, 5, 12, 16, 7), 0.75
#: A gap shorter than this, and shorter than half the note, is the player's articulation, not a rest.
SMALL_GAP = UNIT // 2
#: Tuplets by what divides their quarter: so many in the time of so many.
_TUPLETS = {3: 2, 5: 4, 7: 4}
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
    notes: list[tuple[int, int, int]] = field(default_factory=list)
    drums: bool = False


def midi_to_musicxml(data: bytes) -> tuple[bytes, list[Problem]]:
    """A MIDI file to MusicXML, and what was left out.

    Raises:
        ScoreError: damaged, timed in seconds, or without notes.
    """
    try:
        file = mido.MidiFile(file=io.BytesIO(data), clip=True)
    except Exception as error:  # its reader raises what it comes upon
        raise ScoreError("score.bad_midi", worded("The MIDI file is damaged and cannot be read. Export it again.")) from error
    if file.ticks_per_beat <= 0 or file.ticks_per_beat & 0x8000:
        raise ScoreError(
            "score.bad_midi", worded("This MIDI file counts seconds, not beats, so there are no bars to write. Export it with a tempo.")
        )
    tracks, metres, fifths, tempo = _gather(file)
    voices = [t for t in tracks if t.notes]
    if not voices:
        raise ScoreError("score.no_notes", worded("There is not a single note in this MIDI file."))
    tick = -(-UNIT // file.ticks_per_beat)
    onsets = [begin for track in voices for begin, _, _ in track.notes]
    half = -(-UNIT // (2 * file.ticks_per_beat))
    written = sum(any(_off(t, d) <= half for d in DIVISIONS) for t in onsets) >= WRITTEN_SHARE * len(onsets)
    problems = []
    parts = []
    for number, track in enumerate(voices, start=1):
        name = track.name or worded("Track {number}", number=number)
        if track.drums and find_instrument(name).pitched:
            name = worded("Percussion ({name})", name=track.name) if track.name else worded("Percussion")
        notes, cut = _one_voice(track, _Grid([begin for begin, _, _ in track.notes], tick if written else None))
        if cut and not track.drums:
            problems.append(Problem(code="score.midi", text=worded("{name}: {cut} overlapping notes were shortened.", name=name, cut=cut)))
        if track.drums:
            problems.append(
                Problem(code="score.midi", text=worded("{name}: written as strokes on one line; which drum is not told.", name=name))
            )
        bars = _bars(notes, metres, 0 if track.drums else fifths, tempo, strokes=track.drums)
        parts.append(DraftPart(name=name, bars=bars, clef="percussion" if track.drums else _clef(notes)))
    return write_draft(parts), problems


def _gather(file: mido.MidiFile) -> tuple[list[_Track], list[tuple[int, tuple[int, int]]], int, float | None]:
    found: dict[tuple[int, int], _Track] = {}
    metres: dict[int, tuple[int, int]] = {}
    fifths, tempo = 0, None
    count = 0
    for index, track in enumerate(file.tracks):
        at, name = 0, ""
        sounding: dict[tuple[int, int], int] = {}
        for message in track:
            at += message.time
            time = round(at * UNIT / file.ticks_per_beat)
            if message.type == "track_name":
                name = without_control_signs(message.name).strip()[:60]
            elif message.type == "time_signature" and 0 < message.numerator <= 64 and message.denominator in (1, 2, 4, 8, 16, 32):
                metres.setdefault(time, (message.numerator, message.denominator))
            elif message.type == "key_signature" and fifths == 0:
                fifths = _KEYS.get(message.key.rstrip("m"), 0) - (3 if message.key.endswith("m") else 0)
            elif message.type == "set_tempo" and tempo is None:
                tempo = round(mido.tempo2bpm(message.tempo), 1)
            elif message.type in ("note_on", "note_off"):
                key = (message.channel, message.note)
                if key in sounding:
                    begin, drums = sounding.pop(key), message.channel == DRUMS
                    track_of = found.setdefault((index, message.channel), _Track(name=name, drums=drums))
                    track_of.notes.append((begin, time - begin, message.note))
                    count += 1
                if message.type == "note_on" and message.velocity:
                    sounding[key] = time
            if count > MAX_NOTES:
                raise ScoreError(
                    "score.too_long", worded("The MIDI file has more than {max_notes} notes. Split it and try again.", max_notes=MAX_NOTES)
                )
    return list(found.values()), sorted(metres.items()) or [(0, (4, 4))], max(-7, min(7, fifths)), tempo


def _off(time: int, division: int) -> int:
    """How far a time is from the nearest part of a quarter divided so."""
    step = UNIT // division
    return abs(time - (time + step // 2) // step * step)


class _Grid:
    """Where times go. ``tick`` is the file's own precision; None for one that was played: its quarters are divided as they may be."""

    def __init__(self, onsets: list[int], tick: int | None) -> None:
        self.divisions: dict[int, int] = {}
        if tick is None:
            return
        inside: dict[int, list[int]] = {}
        for onset in onsets:
            inside.setdefault((onset + tick) // UNIT, []).append(onset)
        for quarter, times in inside.items():
            self.divisions[quarter] = next((d for d in DIVISIONS if all(_off(t, d) <= tick for t in times)), 0)

    def place(self, time: int) -> int:
        division = self.divisions.get(time // UNIT, 0)
        if division:
            step = UNIT // division
            return (time + step // 2) // step * step
        straight, triplet = ((time + step // 2) // step * step for step in (STRAIGHT, TRIPLET))
        return triplet if abs(time - triplet) + CLEARLY < abs(time - straight) else straight

    def shortest(self, time: int) -> int:
        return UNIT // (self.divisions.get(time // UNIT, 0) or 4)


def _one_voice(track: _Track, grid: _Grid) -> tuple[list[tuple[int, int, list[int]]], int]:
    """Chords one after the other as (onset, length, pitches), and how many had to be shortened."""
    chords: dict[int, list[tuple[int, int]]] = {}
    for begin, length, midi in track.notes:
        chords.setdefault(grid.place(begin), []).append((length, midi))
    onsets = sorted(chords)
    result, cut = [], 0
    for number, onset in enumerate(onsets):
        room = onsets[number + 1] - onset if number + 1 < len(onsets) else None
        wanted = max(grid.shortest(onset), grid.place(onset + max(length for length, _ in chords[onset])) - onset)
        if track.drums:
            wanted = min(room or UNIT, UNIT)  # a stroke has no length: it is written up to the next, a quarter at most
        elif room is not None:
            cut += wanted > room
            gap = room - wanted
            wanted = room if gap < 0 or gap < min(SMALL_GAP, wanted // 2 + UNIT // 8) else wanted
        result.append((onset, wanted, sorted({midi for _, midi in chords[onset]})))
    return result, cut


def _bars(
    notes: list[tuple[int, int, list[int]]],
    metres: list[tuple[int, tuple[int, int]]],
    fifths: int,
    tempo: float | None,
    *,
    strokes: bool,
) -> list[DraftBar]:
    end = max(onset + length for onset, length, _ in notes)
    starts: list[int] = []
    bars: list[DraftBar] = []
    at, metre, due = 0, None, 0
    while at < end:
        while due + 1 < len(metres) and metres[due + 1][0] <= at:
            due += 1
        own = metres[due][1]
        bars.append(DraftBar(metre=(*own, "") if own != metre else None))
        metre = own
        starts.append(at)
        at += 4 * UNIT * metre[0] // metre[1]
        if len(bars) > MAX_BARS:
            raise ScoreError("score.too_long", worded("The MIDI file comes to more than {max_bars} bars.", max_bars=MAX_BARS))
    bars[0].fifths, bars[0].tempo_qpm = fifths, tempo
    starts.append(at)
    filled = 0
    for onset, length, midis in [*notes, (starts[-1], 0, [])]:
        _put(bars, starts, filled, onset - filled, [], stroke=False)
        if midis:
            _put(bars, starts, onset, length, [] if strokes else [_pitch(m, fifths) for m in midis], stroke=strokes)
        filled = onset + length
    bars[-1].style = "light-heavy"
    return bars


def _put(bars: list[DraftBar], starts: list[int], at: int, length: int, pitches: list[Pitch], *, stroke: bool) -> None:
    """A note, stroke or rest, tied over the bar lines and off the edges of a tuplet's quarter that it crosses."""
    first = True
    while length > 0:
        index = bisect_right(starts, at) - 1
        here = min(length, starts[index + 1] - at)
        to_beat = -at % UNIT
        tuplet = _tuplet(at) or _tuplet(here)
        if tuplet and (to_beat or here > UNIT):
            here = min(here, to_beat or here // UNIT * UNIT or here)
        tuplet = _tuplet(here)
        more = here < length
        own = [Pitch(step=p.step, alter=p.alter, octave=p.octave, tie_start=more, tie_stop=not first) for p in pitches]
        note = DraftNote(nominal=_quarters(here), pitches=own, stroke=stroke and first)
        if tuplet:
            note.actual, note.normal = tuplet, _TUPLETS[tuplet]
            note.nominal = _quarters(here) * Fraction(tuplet, note.normal)
        bars[index].notes.append(note)
        at, length, first = at + here, length - here, False


@lru_cache(maxsize=4096)
def _quarters(time: int) -> Fraction:
    return Fraction(time, UNIT)


def _tuplet(time: int) -> int:
    """What a time's quarter is divided by besides two: 3, 5, 7; 0 for nothing."""
    return next((t for t in _TUPLETS if _quarters(time).denominator % t == 0), 0)


def _pitch(midi: int, fifths: int) -> Pitch:
    step, alter = simplest(midi, fifths)
    return Pitch(step=step, alter=alter, octave=(midi - alter - STEP_SEMITONES[step]) // 12 - 1)


def _clef(notes: list[tuple[int, int, list[int]]]) -> str:
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
