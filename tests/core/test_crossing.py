"""The crossing: stones, their counts, their order, and what is at work."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.errors import PassageError
from didactor.core.practising.crossing import (
    Attempt,
    Kind,
    Order,
    Outcome,
    Rule,
    Stone,
    clean_tempo_of_bars,
    crossing,
    default_rule,
    in_order_of_work,
    standing,
    stones_of,
)
from didactor.core.score.study.segments import Segment

BARS = ["0", "1", "2", "3", "4", "5", "6"]
SIGNS = {"+": Outcome.CLEAN, "-": Outcome.FAULT, "?": Outcome.UNSURE, "t": Outcome.TRIAL, "u": Outcome.UNHEARD}


def attempts(signs: str, *, stone: str = "1-2", tempo: float = 80.0, day: int = 0, step: str = "") -> list[Attempt]:
    return [Attempt(stone=stone, outcome=SIGNS[sign], tempo=tempo, day=day, step=step) for sign in signs]


def stand(signs: str, rule: Rule | None = None, **options: object):
    return standing(attempts(signs, **options), rule or Rule(), [60.0, 70.0, 80.0])


class CountTests(SimpleTestCase):
    def test_so_many_in_a_row_and_a_fault_takes_the_count_back(self):
        for signs, tally, firm in (("", 0, False), ("++", 2, False), ("+++", 3, True), ("++-+", 1, False), ("++-+++", 3, True)):
            found = stand(signs)
            self.assertEqual((found.tally, found.firm), (tally, firm), signs)

    def test_what_cannot_be_told_trial_runs_and_what_nobody_heard_neither_count_nor_take_back(self):
        found = stand("+?+tu+")
        self.assertEqual((found.firm, found.attempts, found.unheard), (True, 3, 1))

    def test_several_good_ones_among_the_last(self):
        rule = Rule(good=3, of=5)
        self.assertTrue(stand("+-++", rule).firm)
        self.assertEqual(stand("+--+--", rule).tally, 1)
        self.assertFalse(stand("++---+", rule).firm)

    def test_a_count_that_does_not_survive_the_night_begins_anew(self):
        days = [*attempts("++", day=1), *attempts("+", day=2)]
        rungs = [80.0]
        self.assertTrue(standing(days, Rule(), rungs).firm)
        self.assertEqual(standing(days, Rule(overnight=False), rungs).tally, 1)
        self.assertTrue(standing([*attempts("+++", day=1), *attempts("?", day=2)], Rule(overnight=False), rungs).firm)

    def test_a_firm_stone_is_shaken_by_one_fault_and_lost_by_two(self):
        self.assertEqual((stand("+++-").firm, stand("+++-").shaken), (True, True))
        self.assertEqual((stand("+++-+").firm, stand("+++-+").shaken), (True, False))
        lost = stand("+++--")
        self.assertEqual((lost.firm, lost.tally, lost.failures), (False, 0, 2))
        self.assertTrue(stand("+++-+-").firm)

    def test_the_tempo_falls_after_three_failures_and_rises_only_by_clean_ones(self):
        self.assertEqual(stand("--").tempo, 80.0)
        fallen = stand("---")
        self.assertEqual((fallen.tempo, fallen.slower, fallen.failures), (70.0, True, 0))
        slow = [*attempts("---"), *attempts("+", tempo=70.0)]
        rungs = [60.0, 70.0, 80.0]
        self.assertEqual(standing(slow, Rule(), rungs).tempo, 70.0)
        up = standing([*slow, *attempts("+", tempo=70.0)], Rule(), rungs)
        self.assertEqual((up.tempo, up.firm, up.tally), (80.0, False, 0), "what was slow does not count at the tempo")
        self.assertEqual(standing([*slow, *attempts("-+", tempo=70.0)], Rule(), rungs).tempo, 70.0)
        self.assertEqual(standing(attempts("---------", tempo=60.0), Rule(), rungs, begin=60.0).tempo, 60.0, "no slower than the slowest")

    def test_it_begins_where_it_is_told_and_the_whole_needs_one(self):
        self.assertEqual(standing([], Rule(), [60.0, 70.0, 80.0], begin=68.0).tempo, 70.0)
        whole = standing(attempts("+"), Rule(good=3), [80.0], whole=True)
        self.assertEqual((whole.firm, whole.need), (True, 1))

    def test_a_remedy_s_attempts_have_a_count_of_their_own(self):
        self.assertEqual(standing(attempts("+++", step="two_notes"), Rule(), [80.0]).tally, 0)

    def test_rules_that_make_no_sense_are_refused(self):
        for values in ({"good": 0}, {"good": 11}, {"good": 3, "of": 2}, {"good": 3, "of": 21}, {"counts": "beauty"}):
            with self.subTest(**values), self.assertRaises(PassageError):
                Rule(**values)
        self.assertEqual(Rule(good=3, of=5).in_words, "3 of 5 times")
        self.assertEqual((default_rule("first_reading", young=False).counts, default_rule("final", young=False).counts), ("notes", "all"))
        self.assertEqual(default_rule("final", young=True).good, 2)


class StoneTests(SimpleTestCase):
    def cut(self, *segments: tuple[str, str], hardness: dict[str, float] | None = None) -> list[Stone]:
        return stones_of([Segment(first=a, last=b) for a, b in segments], BARS, hardness)

    def test_stones_joins_over_their_seams_and_the_whole(self):
        found = self.cut(("3", "4"), ("0", "2"), ("5", "6"))
        self.assertEqual(
            [(s.name, s.bars) for s in found],
            [("0-2", "0-2"), ("3-4", "3-4"), ("5-6", "5-6"), ("2|3", "2-3"), ("4|5", "4-5"), ("whole", "0-6")],
        )
        self.assertEqual(found[3].sides, ("0-2", "3-4"))

    def test_a_part_of_the_passage_with_a_gap_has_no_join_over_it_and_one_stone_no_whole(self):
        self.assertEqual([s.name for s in self.cut(("1", "2"), ("5", "6"))], ["1-2", "5-6", "whole"])
        self.assertEqual([s.name for s in self.cut(("1", "2"))], ["1-2"])

    def test_stones_that_overlap_run_backwards_or_lie_outside_are_refused(self):
        for segments in ((("1", "3"), ("3", "4")), (("4", "2"),), (("5", "9"),)):
            with self.subTest(segments=segments), self.assertRaises(PassageError):
                self.cut(*segments)

    def test_three_orders_of_work(self):
        found = self.cut(("1", "2"), ("3", "4"), ("5", "6"), hardness={"6": 0.9, "3": 0.5})
        names = lambda order: [s.name for s in in_order_of_work(found, order)]  # noqa: E731
        self.assertEqual(names(Order.IN_ORDER), ["1-2", "3-4", "5-6", "2|3", "4|5", "whole"])
        self.assertEqual(names(Order.JOIN_AT_ONCE), ["1-2", "3-4", "2|3", "5-6", "4|5", "whole"])
        self.assertEqual(names(Order.HARDEST_FIRST), ["5-6", "3-4", "4|5", "1-2", "2|3", "whole"])

    def test_what_is_at_work_goes_on_from_stone_to_stone_until_all_carries(self):
        stones = self.cut(("1", "2"), ("3", "4"))
        done: list[Attempt] = []
        seen = []
        for _ in range(20):
            state = crossing(stones, done, Rule(good=2), Order.JOIN_AT_ONCE, [80.0])
            if state.carries:
                break
            seen.append(state.at.name)
            done += attempts("+", stone=state.at.name)
        self.assertEqual(seen, ["1-2", "1-2", "3-4", "3-4", "2|3", "2|3", "whole"])
        self.assertTrue(state.carries)
        self.assertEqual(state.firm, 4)
        back = crossing(stones, [*done, *attempts("-", stone="3-4")], Rule(good=2), Order.JOIN_AT_ONCE, [80.0])
        self.assertEqual(back.at.name, "3-4", "a stone that lost its hold comes first")

    def test_the_clean_tempo_of_each_bar(self):
        stones = self.cut(("1", "2"), ("3", "4"))
        done = [
            *attempts("+", tempo=60.0),
            *attempts("-", tempo=80.0),
            *attempts("+", stone="2|3", tempo=70.0),
            *attempts("+", tempo=90.0, step="hand"),
        ]
        self.assertEqual(clean_tempo_of_bars(stones, done, BARS), {"1": 60.0, "2": 70.0, "3": 70.0})
        self.assertEqual(stones[2].kind, Kind.JOIN)
