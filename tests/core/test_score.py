"""Notation in: ids, expected notes, road maps, hostile files."""

from __future__ import annotations

import io
import tempfile
import zipfile

from django.test import SimpleTestCase

from didactor.core.errors import PassageError, ScoreError
from didactor.core.score.expected import expect, without_notation
from didactor.core.score.open import engrave_isolated, prepare_isolated
from didactor.core.score.read.formats import to_musicxml
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.roadmap import played_order
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from tests.music import TUNE, expectation, musicxml


def opened(data: bytes) -> tuple[dict, bytes]:
    with tempfile.TemporaryFile() as source:
        source.write(data)
        source.flush()
        return prepare_isolated(source)


class ExpectedNotesTests(SimpleTestCase):
    def test_a_tie_that_only_begins_ends_at_the_next_note_of_its_pitch(self):
        tied = (
            musicxml("C5:q D5:h~ | D5:q D5:q C5:q", fifths=0, beats=3)
            .replace(b'<tie type="stop"/>', b"")
            .replace(b'<tied type="stop"/>', b"")
        )
        self.assertEqual(tied.count(b'type="stop"'), 0)
        notes = expect(read(prepare(tied)).parts[0]).notes
        self.assertEqual([(n.written_pitch, n.duration_quarters) for n in notes], [("C5", 1.0), ("D5", 3.0), ("D5", 1.0), ("C5", 1.0)])

    def test_ties_are_one_note_and_the_anacrusis_is_bar_0(self):
        notes = expectation().notes
        self.assertEqual((notes[0].bar, notes[0].onset_quarters), ("0", 0.0))
        tied = next(n for n in notes if n.bar == "2")
        self.assertEqual(tied.duration_quarters, 2.5)
        self.assertEqual([n.beat for n in notes if n.bar == "2"], [0.0, 2.5, 3.0])

    def test_bars_cut_short_by_a_repeat_are_as_long_as_what_is_in_them(self):
        played = expectation("G4:q | C5:q D5:q E5:q F5:q | G5:h. :| G5:q | E5:w | C5:w", fifths=0)
        self.assertEqual([n.onset_quarters for n in played.notes if n.written_pitch == "G4"], [0, 8])
        self.assertEqual([n.onset_quarters for n in played.notes][-3:], [16, 17, 21])

    def test_triplets_share_a_beat(self):
        beats = [round(n.beat, 3) for n in expectation().notes if n.bar == "3"]
        self.assertEqual(beats[:4], [0.0, 0.333, 0.667, 1.0])

    def test_transposing_instruments_sound_lower_than_written(self):
        note = expectation(TUNE, transposition=-2).notes[0]
        self.assertEqual((note.written_pitch, note.sounding_midi), ("A4", 67))

    def test_repeats_inside_the_passage_are_played_twice(self):
        notes = expectation("C4:q D4:q E4:q F4:q | |: G4:w :| C5:w", fifths=0).notes
        self.assertEqual([(n.bar, n.pass_) for n in notes[4:]], [("2", 1), ("2", 2), ("3", 1)])
        self.assertEqual(notes[-1].onset_quarters, 12.0)

    def test_an_order_by_sections(self):
        text = "C4:w | D4:w | E4:w | F4:w"

        def pitches(order: str) -> str:
            return "".join(n.written_pitch[0] for n in expectation(text, order=order, fifths=0).notes)

        self.assertEqual(pitches("A: 1-2 B=3, A B A A"), "CDECDCD")
        self.assertEqual(pitches("A:1 - 2; B: 4"), "CDF")
        self.assertEqual(pitches("A: 1, A 3-4 A"), "CEFC")
        for order, words in (("A: 1-2, A C", "no section C; there are A"), ("A B", "no section A. Say which bars"), ("A: 1-9", "no bar 9")):
            with self.assertRaisesMessage(PassageError, words):
                expectation(text, order=order, fifths=0)

    def test_rehearsal_marks_are_sections(self):
        tune = "X:1\nL:1/4\nM:4/4\nP:AB\nK:C\nP:A\nCCCC | DDDD |\nP:B\nEEEE | [P:C] FFFF |]\n"
        [(xml, problems)] = to_musicxml(tune.encode())
        part = read(prepare(xml)).parts[0]
        self.assertEqual([bar.rehearsal for bar in part.bars], ["A", "", "B", "C"])
        self.assertEqual([bar.number for bar, _ in played_order(part, part.bars, "B A C")], ["3", "1", "2", "4"])
        self.assertIn("order of parts “AB”", " ".join(p.text for p in problems))

    def test_an_order_of_the_teachers_own(self):
        text = "C4:w | D4:w | E4:w"
        notes = expectation(text, order="1-2 1 3", fifths=0).notes
        self.assertEqual([n.written_pitch[0] for n in notes], ["C", "D", "C", "E"])
        self.assertEqual(notes[2].pass_, 2)

    def test_bars_that_do_not_exist_are_named(self):
        part = read(prepare(musicxml())).parts[0]
        for bars, words in (("5-99", "There is no bar 99"), ("6-2", "comes before"), ("?", "no range of bars")):
            with self.assertRaisesMessage(PassageError, words):
                expect(part, bars)
        with self.assertRaisesMessage(PassageError, "not in the passage"):
            expect(part, "1-2", "1-2 5")

    def test_a_passage_of_rests_is_refused(self):
        part = read(prepare(musicxml("C4:w | r:w"))).parts[0]
        with self.assertRaisesMessage(PassageError, "not a single note"):
            expect(part, "2")


class BookLineTests(SimpleTestCase):
    def test_bars_of_a_printed_line_have_their_metre_s_length_and_beat(self):
        for metre, length, beat in (((4, 4), 4.0, 1.0), ((6, 8), 3.0, 1.5), ((3, 8), 1.5, 0.5), ((2, 2), 4.0, 2.0)):
            bars = without_notation(2, *metre).bars
            self.assertEqual(
                [(b.number, b.start_quarters, b.length_quarters, b.beat_quarters) for b in bars],
                [("1", 0.0, length, beat), ("2", length, length, beat)],
                metre,
            )

    def test_a_line_without_sense_is_refused(self):
        for sensible in ((1, 4, 4), (1000, 4, 4), (8, 1, 4), (8, 32, 16)):
            self.assertEqual(len(without_notation(*sensible).bars), sensible[0])
        for senseless in ((0, 4, 4), (1001, 4, 4), (8, 0, 4), (8, 33, 4), (8, 4, 3), (8, 4, 32)):
            with self.assertRaisesMessage(PassageError, "make no passage"):
                without_notation(*senseless)


class NoteIdTests(SimpleTestCase):
    def test_ids_survive_an_edit_elsewhere(self):
        before = {n.id for n in expectation("C4:q D4:q E4:h | F4:w", fifths=0).notes if n.bar == "2"}
        after = {n.id for n in expectation("C4:q G4:e D4:e E4:h | F4:w", fifths=0).notes if n.bar == "2"}
        self.assertEqual(before, after)

    def test_every_note_is_engraved_with_its_id(self):
        _, prepared = opened(musicxml())
        for layout in ("desk", "phone"):
            engraving = engrave_isolated(prepared, 1, "2-5")[layout]
            wanted = {n.id for n in expectation(TUNE, bars="2-5").notes}
            self.assertLessEqual(wanted, set(engraving.geometry["notes"]))
            self.assertNotIn("<style", engraving.svg)
        self.assertEqual(len(engraving.geometry["bars"]), 4)


class HostileScoreTests(SimpleTestCase):
    def refused(self, data: bytes, code: str) -> None:
        with self.assertRaises(ScoreError) as caught:
            opened(data)
        self.assertEqual(caught.exception.code, code)
        self.assertNotIn("Traceback", caught.exception.message)

    def test_external_entities_are_refused(self):
        self.refused(b'<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><score-partwise>&x;</score-partwise>', "score.entities")

    def test_entities_in_another_encoding_are_refused(self):
        text = '<?xml version="1.0" encoding="utf-16"?><!DOCTYPE a [<!ENTITY x "y">]><score-partwise>&x;</score-partwise>'
        self.refused(text.encode("utf-16"), "score.entities")

    def test_a_billion_laughs_is_refused(self):
        laughs = "".join(f'<!ENTITY l{i} "{f"&l{i - 1};" * 10}">' for i in range(1, 10))
        self.refused(f'<!DOCTYPE a [<!ENTITY l0 "ha">{laughs}]><score-partwise>&l9;</score-partwise>'.encode(), "score.entities")

    def test_a_zip_bomb_is_refused(self):
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("score.xml", b" " * (60 * 1024 * 1024))
        self.refused(bomb.getvalue(), "score.too_large")

    def test_a_compressed_score_is_read(self):
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("META-INF/container.xml", '<container><rootfiles><rootfile full-path="music.xml"/></rootfiles></container>')
            archive.writestr("music.xml", musicxml())
        head, _ = opened(packed.getvalue())
        self.assertEqual(head["title"], "Test tune")

    def test_other_files_get_a_plain_sentence(self):
        self.refused(b"", "score.empty")
        self.refused(b"Dear teacher, here is my song", "score.not_notation")
        self.refused(b"<html/>", "score.not_musicxml")
        self.refused(b"PK\x03\x04 broken", "score.bad_zip")
        self.refused(b"<score-partwise/>", "score.no_parts")

    def test_a_score_in_parts_keeps_each_to_itself(self):
        data = write_musicxml([Line(text="C4:w", name="Flute"), Line(text="E4:w", name="Horn in F", transposition=-7)])
        head, prepared = opened(data)
        self.assertEqual([p["name"] for p in head["parts"]], ["Flute", "Horn in F"])
        self.assertEqual(read(prepared).parts[1].notes[0].sounding_midi, 57)
