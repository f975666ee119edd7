"""What a player finds out before playing."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.errors import PassageError
from didactor.core.score.expected import of_staff
from didactor.core.score.model import Part
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.study.counting import Counting, counting
from didactor.core.score.study.reading_aids import loudness_in_words, note_name, read_key_signature
from didactor.core.score.study.rhythm_cards import cards_as_musicxml, rhythm_cards
from tests.music import TUNE, expectation, musicxml


def part(text: str, fifths: int = 0, **line: object) -> Part:
    return read(prepare(musicxml(text, fifths=fifths, **line))).parts[0]


class ReadingAidsTests(SimpleTestCase):
    def counted(self, made: Part) -> Counting:
        return counting(made.notes, {b.index: b for b in made.bars})

    def test_the_key_signature_touches_exactly_its_notes(self):
        made = part("D4:q F#4:q C#5:q C5:q | Bb4:w", fifths=2)
        key = read_key_signature(list(made.notes), {b.index: b for b in made.bars})
        self.assertEqual(key.signs, ("F sharp", "C sharp"))
        names = {n.id: n.written_pitch for n in made.notes}
        self.assertEqual([names[i] for i in key.touched], ["F#4", "C#5"])
        self.assertEqual([names[i] for i in key.against], ["C5", "Bb4"])
        flats = part("Bb4:w", fifths=-3)
        self.assertEqual(read_key_signature(list(flats.notes), {0: flats.bars[0]}).signs, ("B flat", "E flat", "A flat"))

    def test_every_beat_is_counted_also_under_held_notes_and_rests(self):
        for text, line, words in (
            ("C4:q D4:e E4:e F4:s G4:s A4:s B4:s C5:q", {}, "1 e and a 2 e and a 3 e and a 4 e and a"),
            ("C4:h. r:q", {}, "1 2 3 4"),
            ("C4:q D4:e E4:e F4:h", {}, "1 and 2 and 3 and 4 and"),
            ("C4:e3 D4:e3 E4:e3 F4:h.", {}, "1 trip let 2 trip let 3 trip let 4 trip let"),
            ("C4:e D4:e E4:e3 F4:e3 G4:e3 A4:h", {}, "1 and 2 trip let 3 and 4 and"),
            ("C4:q D4:e E4:e F4:e G4:e", {"beats": 6, "beat_type": 8}, "1 2 3 4 5 6"),
            ("C4:q. D4:q.", {"beats": 6, "beat_type": 8}, "1 2"),
        ):
            self.assertEqual(" ".join(c.word for c in self.counted(part(text, **line)).counts), words, text)

    def test_an_upbeat_is_the_end_of_a_bar_and_ties_begin_nothing(self):
        made = self.counted(part("A4:q | D5:h.~ D5:e E5:e | E5:w"))
        self.assertEqual([c.word for c in made.counts][:6], ["4", "and", "1", "and", "2", "and"])
        begun = [c.word for c in made.counts if c.note_id]
        self.assertEqual(begun, ["4", "1", "and", "1"])

    def test_the_words_say_the_one_subdivision(self):
        for text, line, words in (
            ("C4:q D4:q E4:h", {}, "Count the beats: 1 2 3 4."),
            ("C4:e D4:e E4:h.", {}, "Count every beat in two: 1 and 2 and 3 and 4 and."),
            ("C4:s D4:s E4:e F4:h.", {}, "Count every beat in four: 1 e and a 2 e and a 3 e and a 4 e and a."),
            ("C4:q D4:e E4:q.", {"beats": 6, "beat_type": 8}, "Count the eighths: 1 2 3 4 5 6."),
        ):
            self.assertEqual(self.counted(part(text, **line)).in_words, words)
        own = counting(part("C4:e D4:e E4:h.").notes, {0: part("C4:e D4:e E4:h.").bars[0]}, {"and": "te", "e": ""})
        self.assertIn("1 te 2 te", own.in_words)
        self.assertEqual([c.word for c in own.counts][:2], ["1", "te"])

    def test_names_of_every_naming(self):
        made = part("Bb4:q F#4:q E4:q Eb4:q", fifths=-1)
        for naming, names in (
            ("letters", ["B♭", "F♯", "E", "E♭"]),
            ("german", ["B", "Fis", "E", "Es"]),
            ("fixed_do", ["si♭", "fa♯", "mi", "mi♭"]),
            ("movable_do", ["fa", "do♯", "ti", "ti♭"]),
            ("numbers", ["4", "1♯", "7", "7♭"]),
        ):
            self.assertEqual([note_name(n, -1, naming) for n in made.notes], names, naming)

    def test_loud_and_soft_in_the_order_of_the_bars(self):
        made = part("C4:q!p D4:q E4:q F4:q | G4:q!< F4:q E4:q D4:q | C4:h!f C4:h!.")
        self.assertEqual(loudness_in_words(made, {b.index: b for b in made.bars}), ["p from bar 1", "louder from bar 2", "f from bar 3"])
        self.assertEqual(loudness_in_words(part(TUNE), {}), [])


class CardsAndNamesTests(SimpleTestCase):
    def test_every_rhythm_once_with_what_to_say(self):
        part = read(prepare(musicxml("C5:q C5:e C5:e C5:h | D5:q D5:e D5:e D5:h | E5:s E5:s E5:s E5:s E5:q r:h | F5:w", fifths=0))).parts[0]
        cards = rhythm_cards(part.notes, {b.index: b for b in part.bars})
        self.assertEqual(
            [(card.bars, card.spoken) for card in cards],
            [(("1", "2"), ("ta", "ti", "ti", "ta-a")), (("3",), ("ti", "ri", "ti", "ri", "ta", "")), (("4",), ("ta-a-a-a",))],
        )
        read_back = read(prepare(cards_as_musicxml(cards))).parts[0]
        self.assertEqual([n.duration_quarters for n in read_back.notes if n.bar_index == 0], [1.0, 0.5, 0.5, 2.0])

    def test_a_teacher_s_own_names_stand_in_for_letters(self):
        part = read(prepare(musicxml("C5:q F#5:q B4:h", fifths=1))).parts[0]
        own = {"C": "Cod", "F": "Fin"}
        self.assertEqual([note_name(n, 1, "own", own) for n in part.notes], ["Cod", "Fin♯", "B"])
        self.assertEqual(note_name(part.notes[0], 1, "own"), "C")

    def test_one_hand_alone_is_its_own_passage(self):
        expected = expectation("C5:q D5:q E5:h", fifths=0)
        self.assertEqual(of_staff(expected, 1), expected)
        self.assertEqual(of_staff(expected, None), expected)
        with self.assertRaises(PassageError):
            of_staff(expected, 2)
