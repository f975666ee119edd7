"""Words and chords as lines to sing and strum from."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.score.expected import expect
from didactor.core.score.read.lyrics import read_lyrics
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.study.songs import song_lines
from didactor.core.score.write.as_musicxml import Line, write_musicxml

CHART = "x:q@G x:q x:q x:q | x:q@C x:q x:h@D | x:q@G r:q r:h | x:e x:e x:q x:h@C"
SONG = "C4:q@C%Fer- D4:q%ry E4:h%comes | F4:q@F%in G4:h.@G7%six | E4:w@C%now"


def lines_of(text: str, order: str | None = None, **line: object):
    prepared = prepare(write_musicxml([Line(text=text, **line)]))
    part = read(prepared).parts[0]
    return song_lines(expect(part, None, order), read_lyrics(prepared, 1))


class SongTests(SimpleTestCase):
    def test_strokes_are_counted_for_each_chord_and_groups_that_stop_show_it(self):
        first, second = lines_of(CHART, slashes=True)
        self.assertEqual([(c.chord, c.pattern, c.strokes) for c in first.cells], [("G", "/ / / /", 4), ("C", "/ /", 2), ("D", "/ ·", 1)])
        self.assertEqual([(c.chord, c.pattern) for c in second.cells], [("G", "/ · · · // /"), ("C", "/ ·")])
        self.assertEqual((second.start_quarters, second.end_quarters, second.bar), (8.0, 16.0, "3"))

    def test_words_stand_under_their_chords_and_syllables_are_joined(self):
        lines = lines_of(SONG)
        self.assertEqual(
            [[(c.chord, c.words) for c in line.cells] for line in lines],
            [[("C", "Ferry comes"), ("F", "in"), ("G7", "six")], [("C", "now")]],
        )

    def test_the_lines_follow_the_order_of_playing(self):
        again = lines_of(SONG, order="1-2 1-2 3")
        self.assertEqual([line.cells[0].words for line in again], ["Ferry comes", "Ferry comes", "now"])
        self.assertEqual([line.start_quarters for line in again], [0.0, 8.0, 16.0])

    def test_a_melody_without_words_or_chords_has_no_such_page(self):
        self.assertEqual(lines_of("C4:q D4:q E4:h | F4:w"), ())

    def test_an_upbeat_belongs_to_the_first_line(self):
        lines = lines_of("G3:q%The | C4:w@C%sea | D4:w%is | E4:w%wide")
        self.assertEqual([line.bar for line in lines], ["0", "3"])
        self.assertEqual([c.words for c in lines[0].cells], ["The", "sea is"])
