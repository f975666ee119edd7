"""What comes next after a take, and what a player can carry."""

from __future__ import annotations

from dataclasses import replace

from django.test import SimpleTestCase

from didactor.core.planning.carrying import Playing, carried_tempo, segment_to_train
from didactor.core.planning.next_step import History, Next, TakeFacts, propose, worst_segment

BARS = tuple(str(k) for k in range(1, 13))


def take(faults: dict[str, int] | None = None, *, asked: float = 80.0, played: float = 80.0, judged: int = 60, rhythm: int = 0):
    return TakeFacts(asked=asked, played=played, judged=judged, expected=60, faults=faults or {}, rhythm=rhythm)


def history(*takes: TakeFacts, **more: object) -> History:
    return replace(History(bars=BARS, target=80.0, asked=80.0, takes=takes), **more)


class CarriedTests(SimpleTestCase):
    def stone(self, tempo: float, *faults: int) -> list[Playing]:
        return [Playing(tempo=tempo, notes=10, faults=f, stone="3-4") for f in faults]

    def test_between_what_held_and_what_broke_down(self):
        playings = [*self.stone(60, 0, 0, 0), *self.stone(66, 0, 0, 0), *self.stone(72, 1, 1, 1), *self.stone(66, 0, 0)]
        found = carried_tempo(playings, 80.0)
        self.assertTrue(64 <= found.tempo <= 71, found)
        self.assertLess(found.low, found.tempo)
        self.assertLess(found.tempo, found.high)
        self.assertFalse(found.alone)

    def test_the_weakest_stone_counts(self):
        weak = [*self.stone(60, 0, 0, 0), *self.stone(66, 1, 1, 1), *self.stone(60, 0, 0)]
        strong = [replace(p, stone="7-8", tempo=80.0, faults=0) for p in self.stone(80, *[0] * 8)]
        self.assertLess(carried_tempo([*weak, *strong], 80.0).tempo, 66)

    def test_one_slip_among_many_is_no_breaking_down(self):
        found = carried_tempo([*self.stone(80, 0, 0, 0, 1, 0, 0, 0, 0)], 80.0)
        self.assertGreater(found.tempo, 76)

    def test_playing_shows_no_more_than_the_tempi_that_were_played(self):
        self.assertEqual(carried_tempo([Playing(tempo=70, notes=60, faults=0)], 80.0).tempo, 70)
        self.assertTrue(carried_tempo([Playing(tempo=70, notes=60, faults=0)], 80.0).alone)
        self.assertIsNone(carried_tempo([], 80.0))
        self.assertIsNone(carried_tempo([Playing(tempo=70, notes=0, faults=0)], 80.0))

    def test_three_faults_in_a_take_weigh_more_than_one(self):
        one, many = (carried_tempo([Playing(tempo=80, notes=60, faults=f), *self.stone(64, 0, 0)], 80.0).tempo for f in (1, 9))
        self.assertLess(many, one)


class SegmentTests(SimpleTestCase):
    def test_the_bars_that_fail_beyond_what_is_usual(self):
        faults = {"5": 4.0, "6": 3.0, "11": 1.0}
        found = segment_to_train(BARS, faults, dict.fromkeys(BARS, 5.0))
        self.assertEqual((found.bars, found.in_words), ("5-6", "bars 5–6"))
        self.assertAlmostEqual(found.share, 7 / 8)

    def test_one_bar_and_none(self):
        self.assertEqual(segment_to_train(BARS, {"9": 2.0}, dict.fromkeys(BARS, 3.0)).bars, "9")
        self.assertEqual(segment_to_train(BARS, {"9": 2.0}, dict.fromkeys(BARS, 3.0)).in_words, "bar 9")
        self.assertIsNone(segment_to_train(BARS, {}, {}))
        self.assertIsNone(segment_to_train((), {"1": 1.0}, {}))
        self.assertIsNone(segment_to_train(BARS, dict.fromkeys(BARS, 2.0), dict.fromkeys(BARS, 4.0)), "everywhere is nowhere")

    def test_four_bars_at_most(self):
        found = segment_to_train(BARS, dict.fromkeys(BARS[2:9], 3.0), dict.fromkeys(BARS, 3.0))
        self.assertEqual(BARS.index(found.last) - BARS.index(found.first), 3)


class ProposalTests(SimpleTestCase):
    def next(self, *takes: TakeFacts, **more: object):
        return propose(history(*takes, **more))

    def test_nothing_before_a_take(self):
        self.assertIsNone(propose(history()))

    def test_what_could_not_be_judged_says_nothing_of_the_playing(self):
        found = self.next(take({"3": 9}, judged=20))
        self.assertIs(found.next, Next.ONCE_MORE)
        self.assertIn("recording", found.because)
        self.assertIsNot(self.next(take({"3": 9}, judged=30)).next, Next.ONCE_MORE)

    def test_without_a_fault(self):
        self.assertIs(self.next(take()).next, Next.PASSED)
        self.assertIs(self.next(take(), follows=True).next, Next.NEXT)
        rung = self.next(take(asked=64, played=64), asked=64.0, rungs=(56, 64, 72, 80))
        self.assertEqual((rung.next, rung.tempo), (Next.NEXT, 72))
        slow = self.next(take(played=70))
        self.assertIs(slow.next, Next.ONCE_MORE)
        self.assertIn("70 instead of 80", slow.because)
        self.assertIs(self.next(take(played=76.5)).next, Next.PASSED)

    def test_one_place_is_a_shorter_segment(self):
        found = self.next(take({"5": 3, "6": 2}))
        self.assertEqual((found.next, found.bars), (Next.SHORTER, "5-6"))
        self.assertIn("All faults lie in bars 5–6", found.because)
        self.assertEqual(found.minutes, 5)

    def test_faults_everywhere_at_a_tempo_that_is_not_carried_are_slower(self):
        slow = [
            Playing(tempo=t, notes=10, faults=f, stone="1-2") for t, f in ((60, 0), (60, 0), (64, 0), (64, 0), (72, 1), (72, 1), (72, 1))
        ]
        found = self.next(take(dict.fromkeys(BARS, 1)), attempts=slow)
        self.assertIs(found.next, Next.SLOWER)
        self.assertTrue(60 <= found.tempo <= 71, found)
        self.assertIn("takes and stones", found.because)

    def test_one_take_alone_proposes_a_rung_below_and_says_so(self):
        found = self.next(take(dict.fromkeys(BARS, 2)), rungs=(56, 64, 72, 80))
        self.assertIs(found.next, Next.SLOWER)
        self.assertLessEqual(found.tempo, 72)
        self.assertIn("One take alone", found.because)

    def test_a_slip_at_a_tempo_that_holds_is_once_more(self):
        well = [Playing(tempo=80, notes=10, faults=0, stone="1-2")] * 12
        found = self.next(take({"3": 1}), attempts=well)
        self.assertIs(found.next, Next.ONCE_MORE)
        self.assertIn("one place", found.because)

    def test_the_same_bars_three_times_ask_for_another_way(self):
        same = [take({"5": 2}, rhythm=2)] * 3
        self.assertEqual(
            (self.next(*same, steps=("name", "clap")).step, self.next(*same, steps=("name", "clap")).next), ("clap", Next.STEP)
        )
        self.assertEqual(self.next(*[take({"5": 2})] * 3, steps=("name", "clap")).step, "name")
        self.assertIs(self.next(*same[:2], steps=("clap",)).next, Next.SHORTER)
        self.assertIs(self.next(take({"9": 2}), *same[:2], steps=("clap",)).next, Next.SHORTER)
        self.assertIs(self.next(*same).next, Next.SHORTER, "no other step fits these bars")

    def test_much_everywhere_at_a_tempo_that_holds_is_more_time(self):
        well = [Playing(tempo=80, notes=10, faults=0, stone="1-2")] * 60
        found = self.next(take(dict.fromkeys(BARS[::2], 1)), attempts=well)
        self.assertIs(found.next, Next.STAY)

    def test_attempts_speak_of_bars_too(self):
        found = worst_segment(history(take({"2": 1}), failed={"7": 6, "8": 5}, played=dict.fromkeys(BARS, 7)))
        self.assertEqual(found.bars, "7-8")
