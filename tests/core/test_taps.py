"""Taps of our own making: which of them are strokes, a count-off, the recorder's clicks; what an alignment of strokes makes of them."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from didactor.core.hearing.alignment import Alignment, Match
from didactor.core.hearing.count_off import find_count_off
from didactor.core.hearing.events import MIN_NOTE_S, _drop_slivers
from didactor.core.hearing.groups import moments_of
from didactor.core.hearing.hearing import Count, Status
from didactor.core.hearing.strokes import Stroke, find_strokes, hear, hearing_of, stroke_material
from didactor.core.instruments import BY_SLUG
from didactor.core.sound.clicks import count_off_delay_s
from didactor.core.sound.recording import RATE_HZ
from tests.music import expectation

QUARTERS = expectation("C5:q C5:q C5:q C5:q | C5:q C5:q C5:q C5:q", fifths=0)


def taps(
    *times: float, level: tuple[float, ...] | float = 0.4, seconds: float = 6.0, floor: float = 1e-4, decay_s: float = 0.012
) -> np.ndarray:
    """Bursts of noise in a quiet room, each with a level of its own."""
    rng = np.random.default_rng(7)
    sound = rng.normal(0, floor, int(seconds * RATE_HZ))
    levels = level if isinstance(level, tuple) else (level,) * len(times)
    for at, loud in zip(times, levels, strict=True):
        burst = rng.normal(0, 1, int(6 * decay_s * RATE_HZ))
        burst *= loud * np.exp(-np.arange(len(burst)) / RATE_HZ / decay_s)
        first = int(at * RATE_HZ)
        sound[first : first + len(burst)] += burst[: len(sound) - first]
    return sound.astype(np.float32)


class StrokeTests(SimpleTestCase):
    def times(self, samples: np.ndarray) -> list[float]:
        return [round(s.time_s, 1) for s in find_strokes(samples)]

    def test_each_tap_once_at_its_time(self):
        self.assertEqual(self.times(taps(0.5, 1.0, 1.6, 2.0)), [0.5, 1.0, 1.6, 2.0])
        self.assertEqual(find_strokes(taps(seconds=3.0)), [])
        self.assertEqual(find_strokes(np.zeros(400, dtype=np.float32)), [])

    def test_hands_that_do_not_meet_all_at_once_are_one_stroke_with_the_first_contact(self):
        [stroke] = [s for s in find_strokes(taps(0.5, 1.0, 1.05, 1.6)) if 0.9 < s.time_s < 1.2]
        self.assertAlmostEqual(stroke.time_s, 1.0, delta=0.015)

    def test_a_rustle_before_the_stroke_is_not_it(self):
        strokes = [s for s in find_strokes(taps(0.5, 1.0, 1.05, 1.6, level=(0.4, 0.004, 0.4, 0.4))) if 0.9 < s.time_s < 1.2]
        self.assertEqual(len(strokes), 1)
        self.assertAlmostEqual(strokes[0].time_s, 1.05, delta=0.015)

    def test_two_strokes_close_together_are_two(self):
        self.assertEqual(len([s for s in find_strokes(taps(0.5, 1.0, 1.1, 1.6)) if 0.9 < s.time_s < 1.2]), 2)

    def test_what_hardly_rises_over_the_noise_is_none(self):
        loud = find_strokes(taps(0.5, 1.0, 1.5, floor=0.05, level=0.4))
        self.assertGreaterEqual(len(loud), 3)
        self.assertLess(
            len([s for s in find_strokes(taps(0.5, 1.0, 1.5, 2.0, floor=0.05, level=(0.4, 0.4, 0.4, 0.04))) if s.time_s > 1.9]), 1
        )

    def test_two_strokes_are_no_take_of_eight_but_three_may_be(self):
        claps = BY_SLUG["claps"]
        self.assertIsNone(hear(taps(0.5, 1.0), QUARTERS, 0.5, claps))
        heard = hear(taps(0.5, 1.0, 1.5, 2.0, 2.5, 3.0, 3.5, 4.0), QUARTERS, 0.5, claps)
        self.assertEqual((heard.count, heard.of_strokes), (Count(written=8, played=8), True))
        # A line of two notes is two strokes.
        two = expectation("C5:h C5:h", fifths=0)
        self.assertEqual(hear(taps(0.5, 1.5), two, 0.5, claps).count, Count(written=2, played=2))


class StrokeAlignmentTests(SimpleTestCase):
    def heard(self, matches: list[tuple[int, int]], strokes: list[tuple[float, float]]):
        """Strokes as (time, strength); matches as (stroke, moment)."""
        alignment = Alignment(matches=tuple(Match(event=e, note=n) for e, n in matches), cost_per_note=0.1, seconds_per_quarter=0.5)
        return hearing_of([Stroke(time_s=t, strength=s) for t, s in strokes], moments_of(QUARTERS), alignment, QUARTERS)

    STEADY = [(1 + 0.5 * k, 1.0) for k in range(8)]

    def moved(self, seconds: float) -> list[Status]:
        """The third stroke off its place, not taken for it by the alignment."""
        strokes = [(t + (seconds if k == 2 else 0.0), s) for k, (t, s) in enumerate(self.STEADY)]
        heard = self.heard([(k, k) for k in range(8) if k != 2], strokes)
        return [heard.notes[2].status, "extra" if heard.extra else "none"]

    def test_a_stroke_too_many_beside_a_missing_one_is_that_one(self):
        self.assertEqual(self.moved(0.2), [Status.CORRECT, "none"])
        self.assertEqual(self.moved(-0.2), [Status.CORRECT, "none"])
        self.assertEqual(self.moved(0.31), [Status.MISSED, "extra"])

    def test_two_strokes_or_two_notes_are_no_pair(self):
        strokes = [*self.STEADY[:2], (1.9, 1.0), (2.1, 1.0), *self.STEADY[3:]]
        heard = self.heard([(0, 0), (1, 1), *[(k + 1, k) for k in range(3, 8)]], strokes)
        self.assertEqual((heard.notes[2].status, len(heard.extra)), (Status.MISSED, 2))
        heard = self.heard([(0, 0), (1, 1), *[(k - 1, k) for k in range(4, 8)]], [*self.STEADY[:2], (2.2, 1.0), *self.STEADY[4:]])
        self.assertEqual([heard.notes[k].status for k in (2, 3)], [Status.MISSED] * 2)

    def test_faint_strokes_are_neither_extra_nor_counted(self):
        for strength, extra in ((0.39, 0), (0.41, 1)):
            strokes = [*self.STEADY[:3], (2.25, strength), *self.STEADY[3:]]
            heard = self.heard([(k if k < 3 else k + 1, k) for k in range(8)], strokes)
            self.assertEqual((len(heard.extra), heard.count.played), (extra, 8 + extra), strength)
            self.assertEqual([(e.bar, round(e.beat, 2)) for e in heard.extra], [("1", 2.5)] * extra)

    def test_strokes_before_the_first_and_after_the_last_are_no_extra_ones_but_those_after_count(self):
        strokes = [(0.5, 1.0), *self.STEADY, (5.0, 1.0)]
        heard = self.heard([(k + 1, k) for k in range(8)], strokes)
        self.assertEqual((heard.extra, heard.count.played), ((), 9))

    def test_faint_strokes_cost_little_to_pass_over_and_something_to_use(self):
        material = stroke_material([Stroke(time_s=1.0, strength=s) for s in (0.2, 0.39, 0.41, 2.0)], moments_of(QUARTERS))
        self.assertEqual(material.soft.tolist(), [True, True, False, False])
        self.assertEqual(material.pair[:, 0].tolist(), [0.2, 0.2, 0.0, 0.0])
        self.assertEqual([round(float(c), 3) for c in material.extra], [0.1, 0.168, 0.192, 0.9])


class CountOffTests(SimpleTestCase):
    def found(self, *times: float, first: float = 3.4, beat_s: float = 0.6, count: int = 4, pickup: float = 0.0, **more) -> int:
        return len(find_count_off(taps(*times, first, **more) if not more else taps(*times, **more), first, beat_s, count, pickup))

    FOUR = (1.0, 1.6, 2.2, 2.8)

    def test_four_even_taps_a_beat_before_the_first_note(self):
        self.assertEqual(self.found(*self.FOUR), 4)
        self.assertEqual(self.found(*self.FOUR, count=3), 0)
        self.assertEqual(self.found(*self.FOUR, count=5), 0)

    def test_a_count_may_be_somewhat_quicker_or_slower_than_asked(self):
        for beat_s, count in ((0.6 / 0.78, 4), (0.6 / 0.75, 0), (0.6 / 1.28, 4), (0.6 / 1.33, 0)):
            self.assertEqual(self.found(*self.FOUR, beat_s=beat_s), count, beat_s)

    def test_it_ends_at_most_three_and_a_half_beats_before_the_first_note(self):
        self.assertEqual(self.found(*self.FOUR, first=2.8 + 3.4 * 0.6), 4)
        self.assertEqual(self.found(*self.FOUR, first=2.8 + 3.7 * 0.6), 0)

    def test_uneven_taps_are_no_count(self):
        self.assertEqual(self.found(1.0, 1.6, 2.22, 2.8), 4)
        self.assertEqual(self.found(1.0, 1.6, 2.32, 2.8), 0)

    def test_the_last_pulses_fall_into_an_upbeat(self):
        self.assertEqual(self.found(1.0, 1.6, 2.2, first=2.8, pickup=1.0), 4)
        self.assertEqual(self.found(2.2, 2.8, first=3.4, count=2), 2)
        self.assertEqual(self.found(2.8, first=3.4, count=2, pickup=1.0), 0)


class DelayTests(SimpleTestCase):
    KNOWN = (1.0, 1.5, 2.0, 2.5)

    def delay(self, late_s: float, level: tuple[float, ...] = (0.4,) * 4, *strays: tuple[float, float]) -> float | None:
        times = [t + late_s for t in self.KNOWN] + [t for t, _ in strays]
        found = count_off_delay_s(taps(*times, level=(*level, *(s for _, s in strays))), self.KNOWN)
        return None if found is None else round(found, 2)

    def test_a_count_off_is_found_by_its_rhythm_within_the_delay_of_devices(self):
        self.assertEqual([self.delay(s) for s in (-0.05, 0.0, 0.13, 0.35)], [-0.05, 0.0, 0.13, 0.35])
        self.assertIsNone(self.delay(0.45))
        self.assertIsNone(self.delay(-0.15))

    def test_clicks_of_quite_different_loudness_are_not_one_metronome_s(self):
        self.assertEqual(self.delay(0.1, (0.4, 0.4, 0.3, 0.4)), 0.1)
        self.assertIsNone(self.delay(0.1, (0.4, 0.4, 0.08, 0.4)))

    def test_something_as_loud_between_speaks_against_it(self):
        self.assertIsNone(self.delay(0.1, (0.4,) * 4, (1.85, 0.4)))
        self.assertEqual(self.delay(0.1, (0.4,) * 4, (1.85, 0.03)), 0.1)
        self.assertEqual(self.delay(0.1, (0.4,) * 4, (4.0, 0.4)), 0.1)

    def test_one_missing_or_one_click_alone_tell_nothing(self):
        self.assertIsNone(count_off_delay_s(taps(1.1, 1.6, 2.6), self.KNOWN))
        self.assertIsNone(count_off_delay_s(taps(1.1), (1.0,)))
        self.assertIsNone(count_off_delay_s(np.zeros(1000, dtype=np.float32), self.KNOWN))


class SliverTests(SimpleTestCase):
    def test_a_sliver_s_time_goes_to_the_neighbour_it_touches(self):
        self.assertEqual(_drop_slivers([(0.0, 0.5, 60), (0.5, 0.53, 72), (0.6, 1.0, 62)]), [(0.0, 0.53, 60), (0.6, 1.0, 62)])
        self.assertEqual(_drop_slivers([(0.0, 0.5, 60), (0.55, 0.58, 72), (0.6, 1.0, 62)]), [(0.0, 0.5, 60), (0.6, 1.0, 62)])
        self.assertEqual(_drop_slivers([(0.0, 0.03, 72)]), [])

    def test_what_a_sliver_parted_is_one_again_and_a_gap_parts(self):
        self.assertEqual(_drop_slivers([(0.0, 0.5, 60), (0.5, 0.53, 72), (0.53, 1.0, 60)]), [(0.0, 1.0, 60)])
        self.assertEqual(_drop_slivers([(0.0, 0.5, 60), (0.53, 1.0, 60)]), [(0.0, 0.5, 60), (0.53, 1.0, 60)])

    def test_the_shortest_note_is_kept(self):
        self.assertEqual(len(_drop_slivers([(0.0, MIN_NOTE_S + 0.001, 60)])), 1)
        self.assertEqual(len(_drop_slivers([(0.0, MIN_NOTE_S - 0.001, 60)])), 0)
