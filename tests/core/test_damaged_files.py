"""Damaged files of every kind: whatever happened to them, a reader answers with a sentence, never with a crash or for ever."""

from __future__ import annotations

import io
import random
import struct
import tempfile
import time
from unittest import mock

import mido
from django.test import SimpleTestCase

from didactor.core.errors import CoreError
from didactor.core.sandbox.confine import UNFORESEEN
from didactor.core.sandbox.run import _BOOT
from didactor.core.score.expected import expect
from didactor.core.score.open import read_isolated
from didactor.core.score.read.formats import to_musicxml
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.sound.recording import open_recording
from tests.music import musicxml, wav

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


class OddFileTests(SimpleTestCase):
    """Files that nothing damaged, and nobody sends by accident."""

    def isolated(self, data: bytes, read_as: str) -> CoreError:
        with tempfile.TemporaryFile() as source:
            source.write(data)
            source.flush()
            with self.assertRaises(CoreError) as caught:
                open_recording(source) if read_as == "sound" else read_isolated(source)
        return caught.exception

    def test_a_wav_of_a_kind_that_nobody_knows_is_refused_with_words(self):
        extra = struct.pack("<HI", 16, 4) + bytes(range(16))
        told = struct.pack("<HHIIHHH", 0xFFFE, 1, 48_000, 96_000, 2, 16, len(extra)) + extra
        body = b"WAVEfmt " + struct.pack("<I", len(told)) + told + b"data" + struct.pack("<I", 9600) + bytes(9600)
        error = self.isolated(b"RIFF" + struct.pack("<I", len(body)) + body, "sound")
        self.assertEqual((error.code, "Send WAV" in error.message), ("audio.kind", True))

    def test_a_reader_that_did_not_foresee_a_file_refuses_it_and_the_log_says_where(self):
        with (
            mock.patch(
                "didactor.core.sandbox.run._BOOT", _BOOT.replace("main(*", "import didactor.core.sound.decode as d; d.decode = 0; main(*")
            ),
            self.assertLogs("didactor.core.sandbox.run", "ERROR") as logged,
        ):
            error = self.isolated(wav(), "sound")
        self.assertEqual(error.code, UNFORESEEN)
        self.assertIn("could not be understood", error.message)
        self.assertIn("TypeError", logged.output[0])

    def test_a_long_text_of_abc_is_refused_soon(self):
        head = b"X:1\nT:Long\nM:4/4\nL:1/8\nK:C\n"
        for sign, words in (
            (b"CDEF GABc |\n", "Split it"),
            (b"CDEF GABc ", "Split it"),
            (b"[CEG", "Split it"),
            (b"(", "not a single note"),
            (b"{", "not a single note"),
            (b'"', "not a single note"),
            (b"!trill", "not a single note"),
        ):
            with self.subTest(sign=sign):
                begun = time.process_time()
                with self.assertRaises(CoreError) as caught:
                    to_musicxml(head + sign * (390_000 // len(sign)))
                self.assertIn(words, caught.exception.message)
                self.assertLess(time.process_time() - begun, 15.0)

    def test_a_bar_that_never_ends_is_asked_for_its_bar_lines(self):
        with self.assertRaisesMessage(CoreError, "bar lines"):
            to_musicxml(b"X:1\nK:C\n" + b"CDEF GABc " * 200)
