"""What many students share in one place, and what is nothing of a class."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.comparing.together import WORDS, Place, Student, common_faults
from didactor.core.judging.registry import all_checks

BARS = frozenset("123456")
BAND = ["flute", "flute", "clarinet", "clarinet", "alto-saxophone", "trumpet", "trumpet", "horn", "trombone", "tuba"]


def late(bar: str = "6", beat: float = 3.0, size: float = 120.0) -> Place:
    return Place(code="rhythm.placement", category="rhythm", bar=bar, beat=beat, size=size)


def band(*at_fault: int, judged: frozenset[str] = BARS, place: Place | None = None) -> list[Student]:
    return [
        Student(key=k, instrument=slug, judged=judged if k not in at_fault else BARS, places=[place or late()] if k in at_fault else [])
        for k, slug in enumerate(BAND)
    ]


class CommonTests(SimpleTestCase):
    def test_what_many_share_is_counted_over_those_who_could_be_judged(self):
        [found] = common_faults(band(0, 3, 6, 8))
        self.assertEqual(found.says(1.0), "Bar 6, beat 4: late, 4 of 10 judged")
        [found] = common_faults(band(0, 3, 6, 8, judged=frozenset("12345")))
        self.assertEqual((len(found.who), found.judged), (4, 4), "the others’ sixth bar could not be judged")

    def test_a_place_that_was_not_judged_does_not_count_against_anybody(self):
        students = [Student(key=k, instrument="flute", judged=frozenset("1"), places=[late()]) for k in range(6)]
        self.assertEqual(common_faults(students), [])

    def test_few_say_nothing_of_a_class_and_two_do_of_a_small_one(self):
        self.assertEqual(common_faults(band(0, 5)), [])
        three = [Student(key=k, instrument="flute", judged=BARS, places=[late()] if k else []) for k in range(3)]
        self.assertEqual(common_faults(three)[0].who, (1, 2))
        many = [Student(key=k, instrument="flute", judged=BARS, places=[late()] if k < 3 else []) for k in range(12)]
        self.assertEqual(common_faults(many), [], "three of twelve are fewer than three in ten")

    def test_early_and_late_and_two_beats_are_different_faults(self):
        students = band(0, 1, 2) + [
            Student(key=20 + k, instrument="flute", judged=BARS, places=[late(size=-90.0), late(beat=1.5)]) for k in range(9)
        ]
        found = common_faults(students)
        self.assertEqual({(c.beat, c.what, len(c.who)) for c in found}, {(3.0, "early", 9), (1.5, "late", 9)})
        self.assertEqual([c.place(1.5) for c in found], ["Bar 6, beat 2", "Bar 6, beat 3"])

    def test_one_student_counts_once_in_a_place(self):
        students = [Student(key=k, instrument="flute", judged=BARS, places=[late(), late(size=200.0)]) for k in range(3)]
        self.assertEqual(common_faults(students)[0].who, (0, 1, 2))

    def test_a_kind_of_instrument_that_stands_out_is_named(self):
        self.assertEqual(common_faults(band(5, 6, 7, 8))[0].mostly, "brass")
        self.assertEqual(common_faults(band(0, 1, 9))[0].mostly, "", "two flutes and a tuba are no kind")
        self.assertEqual(common_faults(band(*range(10)))[0].mostly, "")
        self.assertEqual(common_faults(band(0, 5, 6, 7, 8))[0].mostly, "brass")

    def test_words_are_of_checks_that_there_are(self):
        self.assertLessEqual(set(WORDS), {check.code for check in all_checks()})
