"""Tempi to practise at, and what a student's own choice of tempo changes."""

from __future__ import annotations

import itertools

from django.test import SimpleTestCase

from didactor.core.judging.stages import STAGES
from didactor.core.judging.targets import Targets
from didactor.core.planning.tempi import rungs, to_begin_with


class RungsTests(SimpleTestCase):
    def test_from_a_quarter_of_the_target_to_three_tenths_above_it(self):
        found = rungs(92)
        self.assertEqual((found[0], found[-1]), (23, 120))
        self.assertIn(92, found)
        self.assertEqual(found, sorted(set(found)))
        self.assertLessEqual(max(b / a for a, b in itertools.pairwise(found)), 1.23)

    def test_the_ladder_s_own_tempi_are_among_them_within_the_range(self):
        self.assertTrue({61, 74} <= set(rungs(92, [61, 74, 92])))
        self.assertEqual(rungs(92, [10, 200]), rungs(92))

    def test_slow_targets_have_whole_tempi_too(self):
        for target in (4, 10, 20.5):
            self.assertTrue(all(tempo >= 1 for tempo in rungs(target)), target)
            self.assertIn(round(target), rungs(target))


class BeginningTests(SimpleTestCase):
    def test_the_last_clean_tempo_else_the_first_rung_else_the_target(self):
        self.assertEqual(to_begin_with(92, [61, 74, 92], [60, 69]), 69)
        self.assertEqual(to_begin_with(92, [61, 74, 92], []), 61)
        self.assertEqual(to_begin_with(92, [], []), 92)

    def test_it_is_one_of_the_rungs_the_slower_of_two_as_near(self):
        for clean in (50, 51, 52.5, 400):
            self.assertIn(to_begin_with(92, [], [clean]), rungs(92))
        self.assertEqual(to_begin_with(92, [], [400]), 120)


class OwnTempoTests(SimpleTestCase):
    def test_only_first_reading_and_steady_leave_the_tempo_to_the_student(self):
        self.assertEqual([stage.slug for stage in STAGES if stage.own_tempo], ["first_reading", "steady"])
        for stage in STAGES:
            changed = Targets(tempo_qpm=92, stage=stage.slug).at_own_tempo(60)
            self.assertEqual(changed.tempo_qpm, 60 if stage.own_tempo else 92, stage.slug)

    def test_where_the_tempo_is_judged_what_is_asked_stays_the_upper_end(self):
        steady = Targets(tempo_qpm=92, stage="steady")
        own = steady.at_own_tempo(60)
        self.assertEqual((own.tempo_qpm, own.tempo_to_qpm), (60, 92))
        self.assertEqual(steady.at_own_tempo(92), steady)
        self.assertEqual(steady.at_own_tempo(110), steady)
        ranged = Targets(tempo_qpm=80, tempo_to_qpm=92, stage="steady")
        self.assertEqual((ranged.at_own_tempo(60).tempo_qpm, ranged.at_own_tempo(60).tempo_to_qpm), (60, 92))
        self.assertEqual(ranged.at_own_tempo(85), ranged)

    def test_in_first_reading_the_tempo_is_the_student_s_alone(self):
        own = Targets(tempo_qpm=80, tempo_to_qpm=92, stage="first_reading").at_own_tempo(100)
        self.assertEqual((own.tempo_qpm, own.tempo_to_qpm), (100, None))
