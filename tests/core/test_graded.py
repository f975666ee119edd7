"""Lines to be read at sight: every grade can be written, for one voice and for two hands, and is what it says."""

from __future__ import annotations

import itertools

from django.test import SimpleTestCase

from didactor.core.errors import PassageError
from didactor.core.score.expected import Expectation, expect
from didactor.core.score.generate.exercise import make
from didactor.core.score.generate.graded import GRADES, graded_line
from didactor.core.score.read.musicxml import prepare, read


class GradedTests(SimpleTestCase):
    def music(self, grade: int, seed: int = 1, **options: object) -> Expectation:
        kind, choices, _ = graded_line(grade, seed, **options)
        return expect(read(prepare(make(kind, choices)[1])).parts[0])

    def test_every_grade_can_be_written_for_one_voice_and_for_two_hands(self):
        for grade, rules in enumerate(GRADES, start=1):
            for hands in (1, 2):
                for seed in (1, 2, 3):
                    with self.subTest(grade=grade, hands=hands, seed=seed):
                        music = self.music(grade, seed, hands=hands)
                        self.assertEqual(len(music.bars), rules.bars)
                        self.assertEqual({n.staff for n in music.notes}, {1, 2} if hands == 2 else {1})
                        ends = max(n.onset_quarters + n.duration_quarters for n in music.notes)
                        self.assertAlmostEqual(ends, music.length_quarters)

    def test_the_same_seed_is_the_same_line_and_another_one_is_not(self):
        self.assertEqual(graded_line(5, 7), graded_line(5, 7))
        self.assertNotEqual(graded_line(5, 7)[1], graded_line(5, 8)[1])

    def test_beginners_read_one_hand_at_a_time_and_the_last_bar_together(self):
        music = self.music(3, hands=2)
        *before, last = music.bars
        for bar in before:
            here = {n.staff for n in music.notes if n.bar == bar.number}
            self.assertEqual(len(here), 1, bar.number)
        self.assertEqual({n.staff for n in music.notes if n.bar == last.number}, {1, 2})

    def test_from_the_second_level_on_both_hands_play_and_the_left_one_stays_in_its_place(self):
        for grade in range(4, len(GRADES) + 1):
            music = self.music(grade, hands=2)
            left = [n.sounding_midi for n in music.notes if n.staff == 2]
            self.assertLessEqual(max(left) - min(left), 11, grade)
            first = [n for n in music.notes if n.bar == "1"]
            self.assertEqual({n.staff for n in first}, {1, 2}, grade)

    def test_the_left_hand_holds_before_it_moves(self):
        counts = [len([n for n in self.music(grade, hands=2).notes if n.staff == 2]) / GRADES[grade - 1].bars for grade in (5, 8, 11)]
        self.assertEqual(counts[0], 1.0)
        self.assertTrue(counts[0] < counts[1] < counts[2], counts)

    def test_a_reader_s_own_trouble_comes_more_often(self):
        def leaps(music: Expectation) -> float:
            steps = ["CDEFGAB".index(n.written_pitch[0]) + 7 * int(n.written_pitch[-1]) for n in music.notes]
            return sum(abs(a - b) > 1 for a, b in itertools.pairwise(steps)) / len(steps)

        plain = sum(leaps(self.music(8, seed)) for seed in range(8))
        more = sum(leaps(self.music(8, seed, trouble="notes")) for seed in range(8))
        self.assertGreater(more, plain)
        self.assertEqual(graded_line(8, 3, trouble="tone"), graded_line(8, 3))

    def test_there_is_no_grade_beyond_the_last(self):
        for grade in (0, len(GRADES) + 1):
            with self.assertRaises(PassageError):
                graded_line(grade, 1)
