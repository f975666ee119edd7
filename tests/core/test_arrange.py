"""One passage in every instrument's own key, clef and octave."""

from __future__ import annotations

from django.test import SimpleTestCase
from lxml import etree

from didactor.core.instruments import BY_SLUG, INSTRUMENTS, LEVELS
from didactor.core.score.expected import expect
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.spelling import interval_for, key_alters, moved, pitch_name
from didactor.core.score.write.arrange import arrange, fits
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from tests.music import TUNE, musicxml

CHROMATIC = "D4:q D#4:q E4:q F4:e F#4:e | G4:q G#4:q G4:q@Gm Bb4:q | C#5:h D5:h~ | D5:h C5:q C#5:q"


def written(data: bytes) -> list[str]:
    return [n.written_pitch for n in read(data).parts[0].notes]


def signs(data: bytes) -> list[str]:
    return [n.findtext("accidental") or "" for n in etree.fromstring(data).iter("note")]


class SpellingTests(SimpleTestCase):
    def test_an_interval_keeps_the_spelling(self):
        up_a_major_second = interval_for(2, 0)
        self.assertEqual((up_a_major_second.fifths, up_a_major_second.steps), (2, 1))
        self.assertEqual(moved("E", -1, 4, up_a_major_second), ("F", 0, 4))
        self.assertEqual(moved("B", 0, 4, up_a_major_second), ("C", 1, 5))
        self.assertEqual(moved("B", 1, 3, interval_for(1, 0)), ("C", 1, 4))

    def test_the_key_with_fewer_signs_is_chosen(self):
        self.assertEqual(2 + interval_for(9, 2).fifths, 5)  # D to B for an alto saxophone
        self.assertEqual(4 + interval_for(2, 4).fifths, 6)  # E to F sharp: six signs either way, and sharps they were
        self.assertEqual(5 + interval_for(2, 5).fifths, -5)  # B to D flat, not C sharp

    def test_key_signatures_and_names(self):
        self.assertEqual([s for s, alter in key_alters(3).items() if alter == 1], ["F", "C", "G"])
        self.assertEqual(pitch_name(70, -3), "Bb4")
        self.assertEqual(pitch_name(70, 5), "A#4")
        self.assertEqual(pitch_name(59, -6), "Cb4")


class ArrangeTests(SimpleTestCase):
    def test_every_instrument_sounds_the_same_notes_under_the_same_ids(self):
        for text, fifths in ((TUNE, 2), (CHROMATIC, 1)):
            source = prepare(musicxml(text, fifths=fifths))
            before = expect(read(source).parts[0])
            for instrument in INSTRUMENTS:
                if not instrument.pitched:
                    continue
                after = expect(read(arrange(source, 1, instrument)).parts[0])
                self.assertEqual([n.sounding_midi for n in after.notes], [n.sounding_midi for n in before.notes], instrument.slug)
                self.assertEqual([n.id for n in after.notes], [n.id for n in before.notes], instrument.slug)
                self.assertEqual(after.transposition, instrument.transposition)
                self.assertEqual([c.pitch_classes for c in after.chords], [c.pitch_classes for c in before.chords])

    def test_written_pitches_key_and_clef_are_the_instruments_own(self):
        source = prepare(musicxml("D4:q E4:q F#4:q G4:q | A4:w", fifths=2))
        saxophone = arrange(source, 1, BY_SLUG["alto-saxophone"])
        self.assertEqual(written(saxophone), ["B4", "C#5", "D#5", "E5", "F#5"])
        self.assertEqual(read(saxophone).parts[0].bars[0].fifths, 5)
        self.assertEqual(etree.fromstring(arrange(source, 1, BY_SLUG["viola"])).findtext(".//clef/sign"), "C")
        down = arrange(source, 1, BY_SLUG["cello"], octaves=-1)
        self.assertEqual(written(down)[0], "D3")

    def test_from_a_transposing_part(self):
        trumpet = prepare(musicxml("C4:q D4:q E4:q F4:q", fifths=0, transposition=-2, name="Trumpet"))
        self.assertEqual(written(arrange(trumpet, 1, BY_SLUG["flute"])), ["Bb3", "C4", "D4", "Eb4"])
        self.assertEqual(written(arrange(trumpet, 1, BY_SLUG["horn"])), ["F4", "G4", "A4", "Bb4"])

    def test_signs_are_printed_where_a_reader_needs_them(self):
        data = write_musicxml([Line(text="F#4:q F4:q F4:q F#4:q | F#4:q F5:h. | F5:q F#5:h.~ | F#5:h F#5:h", fifths=1)])
        self.assertEqual(signs(data), ["", "natural", "", "sharp", "", "natural", "natural", "sharp", "", ""])

    def test_a_file_without_any_printed_sign_gets_them(self):
        bare = write_musicxml([Line(text="F4:q F#4:q F4:h", fifths=0)]).replace(b"accidental>", b"other>")
        self.assertEqual(signs(prepare(bare)), ["", "sharp", "natural"])

    def test_an_upper_line_is_taken_from_two_hands(self):
        piano = prepare(write_musicxml([Line(text="C5+E5:q r:q G5:h", lower="C3:h E3:h", name="Piano")]))
        self.assertEqual(written(arrange(piano, 1, BY_SLUG["oboe"])), ["E5", "G5"])
        self.assertEqual(len(written(arrange(piano, 1, BY_SLUG["organ"]))), 5)

    def test_who_has_no_pitch_reads_the_rhythm(self):
        source = prepare(musicxml("D4:q F4:e~ F4:e G4:q A4:q | C5:h r:h", lower="D3:h A3:h | D3:w", fifths=-1))
        made = read(arrange(source, 1, BY_SLUG["percussion"])).parts[0]
        self.assertEqual((made.name, made.clef, made.bars[0].fifths, made.staves), ("Percussion", "percussion", 0, 1))
        self.assertTrue(all(n.unpitched for n in made.notes))
        self.assertEqual([n.onset_quarters for n in expect(made).notes], [0, 1, 2, 3, 4])
        self.assertEqual(signs(arrange(source, 1, BY_SLUG["percussion"])), [""] * 7)

    def test_the_octave_that_fits_is_found_and_what_does_not_fit_is_told(self):
        tune = list(range(60, 73))
        self.assertEqual(fits(tune, (36, 60))[0].octaves, -2)
        self.assertEqual(fits(tune, (55, 100))[0].octaves, 0)
        narrow = fits(tune, (60, 67))[0]
        self.assertEqual((narrow.fits, narrow.outside), (False, 5))
        self.assertEqual(fits(tune, (100, 110), octaves=(0,)), [])


class InstrumentTests(SimpleTestCase):
    def test_the_table_is_whole(self):
        self.assertGreaterEqual(len([i for i in INSTRUMENTS if i.pitched]), 35)
        for instrument in INSTRUMENTS:
            before = None
            for level in LEVELS:
                low, high = instrument.range_at(level)
                self.assertLess(low, high)
                self.assertGreaterEqual(low, instrument.low, (instrument.slug, level))
                self.assertLessEqual(high, instrument.high, (instrument.slug, level))
                if before:
                    self.assertLessEqual(low, before[0], (instrument.slug, level))
                    self.assertGreaterEqual(high, before[1], (instrument.slug, level))
                before = (low, high)
