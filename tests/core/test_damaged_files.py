"""Damaged files of every kind: whatever happened to them, a reader answers with a sentence, never with a crash or for ever."""

from __future__ import annotations

import io
import random
import time

import mido
from django.test import SimpleTestCase

from didactor.core.errors import CoreError
from didactor.core.score.expected import expect
from didactor.core.score.read.formats import to_musicxml
from didactor.core.score.read.musicxml import prepare, read
from tests.music import musicxml

ABC = (
    b'X:1\nT:Low tide\nM:3/4\nL:1/8\nQ:1/4=90\nK:G\n|: (3def "G"[GBd]2 {c}.d2 | uA4 z2 :|1 d6 :|2 g6 |]\nw: one two_ three-four\nV:2\nG6|\n'
)
CHORDPRO = b"{title: Ferry bell}\n{time: 3/4}\n{key: G}\n[G]Over the [C/E]sound and [Gm9]home\n{sog}\n| D7 . . | G C |\n{eog}\n"
SIGNS = b'|:[](){}"ABCabc123/=-_^<>zK \n\\~!+&'
TRIES, PATIENCE_S = 250, 5.0


def midi() -> bytes:
    file, track, buffer = mido.MidiFile(), mido.MidiTrack(), io.BytesIO()
    file.tracks.append(track)
    track.append(mido.MetaMessage("track_name", name="Buoy\x00\x1b"))
    for key in (60, 62, 64, 65):
        track += [mido.Message("note_on", note=key, velocity=70, time=0), mido.Message("note_off", note=key, time=240)]
    file.save(file=buffer)
    return buffer.getvalue()


def damaged(data: bytes, seed: int, binary: bool) -> bytes:
    """The data with a few bytes changed, cut out, doubled or exchanged."""
    rng, bent = random.Random(seed), bytearray(data)
    for _ in range(rng.randint(1, 8)):
        at, how = rng.randrange(len(bent)), rng.random()
        if how < 0.4:
            bent[at] = rng.randrange(256) if binary or rng.random() < 0.3 else rng.choice(SIGNS)
        elif how < 0.6:
            del bent[at : at + rng.randint(1, 12)]
        elif how < 0.8:
            bent[at:at] = bytes(bent[at : at + rng.randint(1, 20)])
        else:
            other = rng.randrange(len(bent))
            bent[at], bent[other] = bent[other], bent[at]
    return bytes(bent)


class DamagedFileTests(SimpleTestCase):
    def survives(self, data: bytes, binary: bool = False) -> None:
        read_well = 0
        for seed in range(TRIES):
            broken, begun = damaged(data, seed, binary), time.monotonic()
            with self.subTest(seed=seed):
                try:
                    for xml, _ in to_musicxml(broken):
                        for part in read(prepare(xml)).parts:
                            expect(part)
                    read_well += 1
                except CoreError as error:
                    self.assertRegex(error.message, r"^[A-Z“].*[.!?]$")
                self.assertLess(time.monotonic() - begun, PATIENCE_S)
        # Not everything is refused: small damage in words or signs is told and passed over.
        self.assertGreater(read_well, TRIES // 50)

    def test_abc(self):
        self.survives(ABC)

    def test_chordpro(self):
        self.survives(CHORDPRO)

    def test_midi(self):
        self.survives(midi(), binary=True)

    def test_musicxml(self):
        self.survives(musicxml())

    def test_names_with_signs_that_no_text_holds_are_cleaned(self):
        [(xml, _)] = to_musicxml(midi())
        self.assertEqual(read(prepare(xml)).parts[0].name, "Buoy")
        [(xml, _)] = to_musicxml(b"X:1\nT:Gale\x0b warning\nK:C\nCDEF|")
        self.assertEqual(read(prepare(xml)).title, "Gale warning")

    def test_a_step_back_to_before_the_bar(self):
        back = b"<backup><duration>9</duration></backup>"
        broken = musicxml().replace(b"<note", back + b"<note", 1)
        [(xml, _)] = to_musicxml(broken)
        self.assertTrue(read(prepare(xml)).parts[0].notes)
