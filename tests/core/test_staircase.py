"""The grade of the next line to read at sight follows what could be played."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.planning.staircase import GRADES, LineRead, is_playable, level_of, next_grade


def lines(signs: str, grade: int) -> list[LineRead]:
    return [LineRead(grade=grade, playable=sign == "+") for sign in signs]


class StaircaseTests(SimpleTestCase):
    def test_it_begins_where_it_is_told(self):
        self.assertEqual((next_grade([]), next_grade([], start=6.0)), (4, 7))

    def test_what_is_playable_leads_up_and_what_is_not_down_and_further(self):
        up, down = level_of(lines("+", 3)), level_of(lines("-", 3))
        self.assertTrue(down < 3.0 < up)
        self.assertGreater(3.0 - down, up - 3.0, "four of five are to succeed, so a failure says more")

    def test_four_of_five_stay_where_they_are(self):
        self.assertEqual(next_grade(lines("++-++" * 2, 5), start=5.0), 5)

    def test_it_stays_among_the_grades(self):
        self.assertEqual(next_grade(lines("-" * 20, 1)), 1)
        self.assertEqual(next_grade(lines("+" * 20, GRADES), start=GRADES), GRADES)

    def test_what_is_long_ago_counts_less(self):
        grown = [*lines("-" * 4, 4), *lines("+" * 4, 4)]
        fallen = [*lines("+" * 4, 4), *lines("-" * 4, 4)]
        self.assertGreater(level_of(grown), level_of(fallen))

    def test_playable_is_most_notes_and_hardly_a_stop(self):
        self.assertTrue(is_playable(0.85, 1))
        self.assertFalse(is_playable(0.84, 0))
        self.assertFalse(is_playable(1.0, 2))
