"""Exercises: what is asked for is what is written, in bars that add up."""

from __future__ import annotations

import itertools
import re
from fractions import Fraction

from django.test import SimpleTestCase

from didactor.core.errors import PassageError
from didactor.core.score.expected import expect
from didactor.core.score.generate import KINDS, make
from didactor.core.score.generate.exercise import METRES, choices_of
from didactor.core.score.generate.layout import lay_out
from didactor.core.score.generate.patterns import CHORD_FIGURES, DIRECTIONS, FIGURES, RHYTHMS
from didactor.core.score.generate.pitches import CHORDS, SCALES, TONICS
from didactor.core.score.generate.sight_reading import LEVELS
from didactor.core.score.model import Part
from didactor.core.score.read.musicxml import prepare, read


def part(kind: str, **choices: object) -> Part:
    return read(prepare(make(kind, choices)[1])).parts[0]


def names(kind: str, **choices: object) -> list[str]:
    return [n.written_pitch for n in expect(part(kind, **choices)).notes]


class ScaleTests(SimpleTestCase):
    def test_scales_are_spelled_and_turn_at_the_top(self):
        self.assertEqual(names("scale", tonic="Eb", direction="up"), ["Eb4", "F4", "G4", "Ab4", "Bb4", "C5", "D5", "Eb5"])
        melodic = names("scale", tonic="A", mode="melodic_minor")
        self.assertEqual(melodic[:9], ["A4", "B4", "C5", "D5", "E5", "F#5", "G#5", "A5", "G5"])
        self.assertEqual(melodic[-3:], ["C5", "B4", "A4"])
        self.assertEqual(names("scale", tonic="F#", mode="chromatic")[-1], "F#4")
        self.assertEqual(names("scale", tonic="D", mode="blues", direction="up"), ["D4", "F4", "G4", "Ab4", "A4", "C5", "D5"])

    def test_figures_and_chords(self):
        self.assertEqual(names("scale", tonic="C", figure="thirds", direction="up")[:4], ["C4", "E4", "D4", "F4"])
        self.assertEqual(names("arpeggio", tonic="Bb", mode="dominant", direction="up"), ["Bb3", "D4", "F4", "Ab4", "Bb4"])
        self.assertEqual(names("arpeggio", tonic="C", octaves=2, figure="threes", direction="up")[:6], ["C4", "E4", "G4", "E4", "G4", "C5"])

    def test_every_choice_fills_its_bars_and_moves_by_its_own_steps(self):
        for kind, modes, figures in (("scale", SCALES, list(FIGURES)), ("arpeggio", CHORDS, CHORD_FIGURES)):
            for number, mode in enumerate(modes):
                for tonic in TONICS:
                    choices = {
                        "tonic": tonic,
                        "mode": mode,
                        "octaves": 1 + number % 3,
                        "direction": list(DIRECTIONS)[number % 4],
                        "figure": figures[number % len(figures)],
                        "rhythm": list(RHYTHMS)[(number + len(tonic)) % len(RHYTHMS)],
                        "metre": list(METRES)[number % 3],
                        "halved": bool(number % 2),
                    }
                    made = part(kind, **choices)
                    self.assertFullBars(made, (kind, choices))
                    intervals = {(n.sounding_midi - made.notes[0].sounding_midi) % 12 for n in made.notes}
                    self.assertLessEqual(len(intervals), 12 if mode == "chromatic" else 9)

    def test_a_rhythm_of_the_teachers_own(self):
        made = part("scale", rhythm="q. e q q")
        self.assertEqual([n.duration_quarters for n in made.notes[:6]], [1.5, 0.5, 1.0, 1.0, 1.5, 0.5])
        for rhythm in ("", "q x", "q..", " ".join(["q"] * 33), "rq q"):
            with self.assertRaisesMessage(PassageError, "is no rhythm"):
                part("scale", rhythm=rhythm)

    def test_again_in_halved_values(self):
        once, twice = part("scale", rhythm="quarters"), part("scale", rhythm="quarters", halved=True)
        self.assertEqual(len(expect(twice).notes), 2 * len(expect(once).notes))
        self.assertEqual(expect(twice).notes[-3].duration_quarters, 0.5)

    def assertFullBars(self, made: Part, what: object) -> None:
        for bar in made.bars:
            own = sum(Fraction(n.duration_quarters).limit_denominator(48) for n in made.notes if n.bar_index == bar.index)
            self.assertLessEqual(own, Fraction(4 * bar.beats, bar.beat_type), what)
            self.assertAlmostEqual(bar.length_quarters, 4 * bar.beats / bar.beat_type, msg=str(what))


class LineTests(SimpleTestCase):
    def test_rhythm_lines_are_strokes_and_rests_that_fill_the_bars(self):
        for level in LEVELS:
            for metre, (beats, beat_type) in METRES.items():
                made = part("rhythm", level=level, metre=metre, seed=3)
                self.assertTrue(all(n.unpitched for n in made.notes))
                self.assertEqual({b.length_quarters for b in made.bars}, {4 * beats / beat_type}, (level, metre))

    def test_sight_reading_is_never_twice_the_same_and_the_same_for_a_seed(self):
        seen = {tuple(names("sight_reading", level="intermediate", tonic="G", seed=seed)) for seed in range(30)}
        self.assertEqual(len(seen), 30)
        self.assertEqual(names("sight_reading", seed=5), names("sight_reading", seed=5))

    def test_sight_reading_keeps_to_its_level(self):
        for seed in range(12):
            easy = expect(part("sight_reading", level="beginner", seed=seed)).notes
            self.assertLessEqual(max(n.sounding_midi for n in easy) - min(n.sounding_midi for n in easy), 9)
            leaps = [abs(b.sounding_midi - a.sounding_midi) for a, b in itertools.pairwise(easy)]
            self.assertLessEqual(max(leaps), 9)
            self.assertEqual(easy[-1].sounding_midi % 12, 0)

    def test_charts_follow_their_sections(self):
        chart = part("chart", sections="V: C . Am F\nC: G7 C", order="V C", strokes="q rq q rq")
        self.assertEqual([c.text for c in chart.chords], ["C", "C", "Am", "F", "G7", "C"])
        self.assertEqual(len(chart.notes), 12)

    def test_a_rhythm_with_words_is_laid_on_a_melody(self):
        tune = (("C4", "1"), ("E4", "2"), ("r", "1"))
        made = part("variation", notes=tune, pattern="e s s", words="run-ning far")
        self.assertEqual([n.written_pitch for n in made.notes], ["C4"] * 3 + ["E4"] * 6)
        self.assertEqual([n.duration_quarters for n in made.notes[:3]], [0.5, 0.25, 0.25])
        data = make("variation", {"notes": tune, "pattern": "e s s", "words": "run-ning far"})[1].decode()
        self.assertEqual(re.findall(r"<syllabic>(\w+)<", data)[:3], ["begin", "end", "single"])

    def test_what_cannot_be_made_is_told_in_words(self):
        for kind, choices, words in (
            ("scale", {"tonic": "H"}, "Key note: “H” cannot be chosen"),
            ("scale", {"octaves": 9}, "between 1 and 3"),
            ("chart", {"sections": "V: C Xyz"}, "no chord"),
            ("chart", {"sections": "V: C", "order": "V B"}, "no such section"),
            ("variation", {"notes": (("C4", "3/2"),), "words": "one two", "pattern": "e e e"}, "2 syllables for 3 notes"),
            ("variation", {"notes": (("C4", "1"),), "pattern": "e e e"}, "fits none of the melody’s 1 notes"),
            ("rhythm", {"bars": 0}, "between 1 and 64"),
            ("polka", {}, "no exercise"),
        ):
            with self.assertRaisesMessage(PassageError, words):
                make(kind, choices)
        with self.assertRaisesMessage(PassageError, "4 quarters, but the bar has 3"):
            make("chart", {"metre": "3/4"})[0].line()

    def test_choices_make_the_same_exercise_again(self):
        for kind in KINDS:
            choices = {"notes": (("C4", "1"),)} if kind == "variation" else {}
            exercise, data = make(kind, choices)
            self.assertEqual(make(kind, choices_of(exercise))[1], data)

    def test_long_notes_between_beats_are_tied_at_the_beat(self):
        text = lay_out([("C4", Fraction(1, 2), ""), ("D4", Fraction(5, 2), ""), ("E4", Fraction(3), "")], 4, 4)
        self.assertEqual(text, "C4:e D4:e~ D4:h E4:q~ | E4:w")
