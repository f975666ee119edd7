"""What a player finds out before playing."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.score.model import Part
from didactor.core.score.musicxml import prepare, read
from didactor.core.score.reading_aids import counting, loudness_in_words, note_name, read_key_signature, subdivision_in_words
from tests.music import TUNE, musicxml


def part(text: str, fifths: int = 0, **line: object) -> Part:
    return read(prepare(musicxml(text, fifths=fifths, **line))).parts[0]


class ReadingAidsTests(SimpleTestCase):
    def counted(self, made: Part) -> list[str]:
        return list(counting(list(made.notes), {b.index: b for b in made.bars}).values())

    def test_the_key_signature_touches_exactly_its_notes(self):
        made = part("D4:q F#4:q C#5:q C5:q | Bb4:w", fifths=2)
        key = read_key_signature(list(made.notes), {b.index: b for b in made.bars})
        self.assertEqual(key.signs, ("F sharp", "C sharp"))
        names = {n.id: n.written_pitch for n in made.notes}
        self.assertEqual([names[i] for i in key.touched], ["F#4", "C#5"])
        self.assertEqual([names[i] for i in key.against], ["C5", "Bb4"])
        flats = part("Bb4:w", fifths=-3)
        self.assertEqual(read_key_signature(list(flats.notes), {0: flats.bars[0]}).signs, ("B flat", "E flat", "A flat"))

    def test_counting_in_simple_and_compound_time(self):
        self.assertEqual(self.counted(part("C4:q D4:e E4:e F4:s G4:s A4:s B4:s C5:q")), ["1", "2", "and", "3", "e", "and", "a", "4"])
        self.assertEqual(self.counted(part("C4:e3 D4:e3 E4:e3 F4:h.")), ["1", "trip", "let", "2"])
        self.assertEqual(self.counted(part("C4:q D4:e E4:e F4:e G4:e", beats=6, beat_type=8)), ["1", "3", "4", "5", "6"])
        # An upbeat is the end of a bar; a tied note is not counted again.
        self.assertEqual(self.counted(part("A4:q | D5:h.~ D5:e E5:e | E5:w"))[:3], ["4", "1", "and"])

    def test_one_subdivision_for_all(self):
        for text, words in (("C4:q D4:q E4:h", "beats only"), ("C4:e D4:e E4:h.", "in two"), ("C4:s D4:s E4:e F4:h.", "in four")):
            made = part(text)
            self.assertIn(words, subdivision_in_words(list(made.notes), {b.index: b for b in made.bars}))

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
