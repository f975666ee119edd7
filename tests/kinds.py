"""Every kind of passage, made as a teacher makes it. A kind is named for where it comes from (``made``: a kind of exercise, something
typed, a format of file, a line of a book, a recording) and for what is unusual about it; ``test_every_kind`` holds the list against
what the program can make.
"""

from __future__ import annotations

import io
import re
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import mido
from django.core.files.uploadedfile import TemporaryUploadedFile

from didactor.core.score.generate import KINDS as EXERCISES
from didactor.core.score.read.formats import all_formats
from didactor.library import exercises
from didactor.library.models import Passage
from didactor.library.printed import Line as PrintedLine
from didactor.library.printed import add_line
from didactor.library.recordings import add_recording
from didactor.library.services import add_piece, all_bars, cut_passage
from didactor.library.written import BEGINNINGS, keep
from didactor.people.models import Person
from tests.music import TUNE, musicxml, tone

Make = Callable[[Person], Passage]


@dataclass(frozen=True, kw_only=True)
class KindOfPassage:
    """``made`` names what of the program makes it; ``instrument`` is the student's; ``step`` what is asked for in the end."""

    name: str
    made: str
    make: Make
    instrument: str = "clarinet"
    step: str = "play"
    fields: dict[str, Any] = field(default_factory=dict)


def imported(source: bytes, filename: str, part: int = 1, order: str = "") -> Make:
    """A file brought in, all of it one passage."""

    def make(teacher: Person) -> Passage:
        with tempfile.TemporaryFile() as file:
            file.write(source)
            file.flush()
            revision = add_piece(teacher=teacher, upload=file, filename=filename).current
        return cut_passage(teacher=teacher, revision=revision, part=part, bars=all_bars(revision, part), order=order)

    return make


def exercise(kind: str, **choices: Any) -> Make:
    return lambda teacher: exercises.keep(teacher=teacher, kind=kind, choices=choices)


def typed(kind: str) -> Make:
    return lambda teacher: keep(teacher=teacher, kind=kind, text=BEGINNINGS[kind])


def printed(teacher: Person) -> Passage:
    line = PrintedLine(book="Slipway Method", page="31", number="112", bars=4, beats=3, beat_type=4, tempo_qpm=80)
    return add_line(teacher=teacher, line=line, photo=None)


def recording(teacher: Person) -> Passage:
    """A drone to listen to, or to tune by."""
    upload = TemporaryUploadedFile("drone.wav", "audio/wav", 0, None)
    upload.write(tone(2.0))
    upload.flush()
    return add_recording(teacher=teacher, title="Drone on A", upload=upload)


def midi() -> bytes:
    file, track = mido.MidiFile(ticks_per_beat=480), mido.MidiTrack()
    for pitch in (60, 62, 64, 65, 67, 65, 64, 62):
        track.append(mido.Message("note_on", note=pitch, velocity=80, time=0))
        track.append(mido.Message("note_off", note=pitch, velocity=0, time=480))
    file.tracks.append(track)
    buffer = io.BytesIO()
    file.save(file=buffer)
    return buffer.getvalue()


ABC = b"X:1\nT:Two parts\nM:6/8\nL:1/8\nK:D\nA | dfa afd | g2e c2A | dcd e2f | d3 d2 |]\n"
CHORDPRO = b"{title: Ferry home}\n{tempo: 84}\n[C]Slow the evening [G]comes\n[Am]over the [F]sound\n"
HANDS = {"text": "C5:q D5:q E5:q F5:q | G5:q F5:q E5:q D5:q | C5:w", "lower": "C3:h G3:h | E3:h G3:h | C3:w", "name": "Piano", "fifths": 0}
CHORDS = {"text": "C4+E4+G4:q C4+E4+G4:q F4+A4+C5:h | G4+B4+D5:h C4+E4+G4:h", "name": "Piano", "fifths": 0}
DRUMS = b"""<?xml version="1.0"?><score-partwise version="4.0"><part-list><score-part id="P1"><part-name>Drum set</part-name>
<score-instrument id="K"><instrument-name>Bass drum</instrument-name></score-instrument>
<score-instrument id="S"><instrument-name>Snare</instrument-name></score-instrument>
<midi-instrument id="K"><midi-channel>10</midi-channel><midi-unpitched>37</midi-unpitched></midi-instrument>
<midi-instrument id="S"><midi-channel>10</midi-channel><midi-unpitched>39</midi-unpitched></midi-instrument></score-part></part-list>
<part id="P1">%s</part></score-partwise>"""


def _drum_bar(number: int) -> str:
    head = (
        "<attributes><divisions>1</divisions><key><fifths>0</fifths></key><time><beats>4</beats><beat-type>4</beat-type></time>"
        "<clef><sign>percussion</sign></clef></attributes>"
        if number == 1
        else ""
    )
    stroke = (
        "<note>{chord}<unpitched><display-step>{step}</display-step><display-octave>{octave}</display-octave></unpitched><duration>1</duration>"
        '<instrument id="{id}"/><voice>1</voice><type>quarter</type></note>'
    )
    kick = stroke.format(chord="", step="F", octave=4, id="K")
    both = kick + stroke.format(chord="<chord/>", step="C", octave=5, id="S")
    snare = stroke.format(chord="", step="C", octave=5, id="S")
    return f'<measure number="{number}">{head}{kick}{snare}{both}{snare}</measure>'


def drum_kit() -> bytes:
    return DRUMS % "".join(_drum_bar(n) for n in range(1, 5)).encode()


def without_numbers() -> bytes:
    """Bars that say nothing of their number."""
    return re.sub(rb'<measure number="[^"]*"', b"<measure", musicxml("C4:q D4:q E4:q F4:q | G4:w | E4:h C4:h", fifths=0))


LONG = " | ".join(["C4:q E4:q G4:q E4:q", "D4:h F4:h"] * 100)

EVERY_KIND: tuple[KindOfPassage, ...] = (
    KindOfPassage(name="melody with a pickup", made="file:MusicXML", make=imported(musicxml(), "tune.musicxml")),
    KindOfPassage(name="two hands", made="file:MusicXML", make=imported(musicxml(**HANDS), "hands.musicxml"), instrument="piano"),
    KindOfPassage(name="chords", made="file:MusicXML", make=imported(musicxml(**CHORDS), "chords.musicxml"), instrument="piano"),
    KindOfPassage(name="drum kit", made="file:MusicXML", make=imported(drum_kit(), "kit.musicxml"), instrument="percussion", step="clap"),
    KindOfPassage(name="one bar", made="file:MusicXML", make=imported(musicxml("C4:q E4:q G4:h", fifths=0), "one.musicxml")),
    KindOfPassage(name="200 bars", made="file:MusicXML", make=imported(musicxml(LONG, fifths=0), "long.musicxml")),
    KindOfPassage(name="no bars numbered", made="file:MusicXML", make=imported(without_numbers(), "unnumbered.musicxml")),
    KindOfPassage(name="an order of one's own", made="file:MusicXML", make=imported(musicxml(TUNE), "order.musicxml", order="1-4 1-2 5-8")),
    KindOfPassage(name="a rest for a bar", made="file:MusicXML", make=imported(musicxml("C4:w | r:w | E4:w", fifths=0), "rest.musicxml")),
    KindOfPassage(name="6/8 with a pickup", made="file:ABC", make=imported(ABC, "jig.abc"), instrument="violin"),
    KindOfPassage(name="a chart with words", made="file:ChordPro", make=imported(CHORDPRO, "song.cho"), instrument="guitar", step="chords"),
    KindOfPassage(name="played into a file", made="file:MIDI", make=imported(midi(), "played.mid"), instrument="trumpet"),
    KindOfPassage(name="typed melody", made="typed:melody", make=typed("melody"), instrument="alto-saxophone"),
    KindOfPassage(name="typed rhythm", made="typed:rhythm", make=typed("rhythm"), step="clap"),
    KindOfPassage(name="typed chart", made="typed:chart", make=typed("chart"), instrument="ukulele", step="chords"),
    KindOfPassage(name="scale in halves", made="exercise:scale", make=exercise("scale", tonic="Eb", rhythm="halves"), instrument="horn"),
    KindOfPassage(name="arpeggio", made="exercise:arpeggio", make=exercise("arpeggio", tonic="Bb"), instrument="cello"),
    KindOfPassage(name="rhythm line", made="exercise:rhythm", make=exercise("rhythm", bars=4), instrument="percussion", step="clap"),
    KindOfPassage(name="strumming", made="exercise:chart", make=exercise("chart"), instrument="guitar", step="chords"),
    KindOfPassage(
        name="at sight",
        made="exercise:sight_reading",
        make=exercise("sight_reading", bars=4, metre="3/4"),
        instrument="flute",
        fields={"stage": "sight_reading", "preparation_s": 60},
    ),
    KindOfPassage(
        name="at sight, two hands",
        made="exercise:sight_reading_two_hands",
        make=exercise("sight_reading_two_hands", bars=4),
        instrument="piano",
    ),
    KindOfPassage(
        name="variation",
        made="exercise:variation",
        make=exercise("variation", notes=(("C4", "1"), ("D4", "1"), ("E4", "2")), source="Slipway"),
    ),
    KindOfPassage(name="printed line", made="line of a book", make=printed, step="pulse", fields={"stage": "steady"}),
    KindOfPassage(name="drone to listen to", made="recording", make=recording, step="listen"),
    KindOfPassage(
        name="names and counting first",
        made="exercise:scale",
        make=exercise("scale", halved=True),
        fields={"stage": "first_reading", "before_steps": ["count", "name"]},
    ),
)


def what_can_be_made() -> set[str]:
    """Every way to a passage that the program has, named as in ``made``."""
    files = {f"file:{entry.title}" for entry in all_formats()}
    return files | {f"typed:{kind}" for kind in BEGINNINGS} | {f"exercise:{kind}" for kind in EXERCISES} | {"line of a book", "recording"}
