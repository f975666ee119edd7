"""Lines that come back, and where practice pays."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.score.model import Part
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.study.payoff import like_lines, payoffs, weights
from tests.music import musicxml

A = "C4:q D4:q E4:q F4:q | G4:q E4:q C4:h"
MOVED = "D4:q E4:q F#4:q G4:q | A4:q F#4:q D4:h"
VARIED = "C4:q D4:q E4:q F4:q | G4:q E4:q D4:h"
OTHER = "G4:h A4:q. B4:e | C5:q. B4:e A4:q G4:q"
PLAIN = "C4:w | G4:h E4:h"


def part(*lines: str) -> Part:
    return read(prepare(musicxml(" | ".join(lines), fifths=0))).parts[0]


class LineTests(SimpleTestCase):
    def test_a_line_comes_back_the_same_moved_and_varied(self):
        found = like_lines(part(A, OTHER, A, MOVED, VARIED))
        self.assertEqual(
            [(line.first, line.pattern, line.length, line.semitones, line.varied) for line in found],
            [(4, 0, 2, 0, ()), (6, 0, 2, 2, ()), (8, 0, 2, 0, (9,))],
        )

    def test_one_bar_alone_is_no_line_and_nothing_is_like_itself(self):
        self.assertEqual(like_lines(part(A, OTHER)), [])
        self.assertEqual(like_lines(part(A, "C4:q D4:q E4:q F4:q | C5:q. B4:e A4:q G4:q")), [])

    def test_the_longest_line_is_told_and_none_inside_it(self):
        found = like_lines(part(A, OTHER, A, OTHER))
        self.assertEqual([(line.first, line.pattern, line.length) for line in found], [(4, 0, 4)])

    def test_two_bars_at_different_distances_are_no_line(self):
        other = "D4:q E4:q F#4:q G4:q | B4:q G#4:q E4:h"
        self.assertEqual(like_lines(part(A, other)), [])


class PayoffTests(SimpleTestCase):
    def test_what_comes_back_and_what_fails_pays(self):
        music = part(A, OTHER, A, MOVED)
        hard = {str(k): 0.5 for k in range(1, 9)}
        [first, *rest] = payoffs(music, hard)
        self.assertEqual((first.bars, first.wins), ("1–2", 4))
        self.assertIn("learn them, and 4 bars more are won", first.in_words)
        failing = payoffs(music, hard, {"3": 9, "5": 1})
        self.assertEqual(failing[0].bars, "3")
        self.assertIn("90 % of the faults", failing[0].in_words)
        self.assertEqual(len(payoffs(music, hard, most=1)), 1)
        self.assertFalse(any(p.wins == 0 and p.cost < 0.1 for p in rest))

    def test_nothing_is_told_where_nothing_comes_back_or_failed(self):
        self.assertEqual(payoffs(part(A, OTHER), {"1": 1.0, "2": 1.0, "3": 1.0, "4": 1.0}), [])
        self.assertEqual(payoffs(part(A, A), {}), [])

    def test_weights_order_what_is_hard_comes_back_and_fails(self):
        found = weights(part(A, OTHER, A), {"1": 0.5, "3": 0.5, "4": 0.6})
        self.assertGreater(found["1"], found["3"])
        self.assertEqual(max(found.values()), 1.0)
        self.assertGreater(weights(part(A, OTHER), {"3": 0.5, "4": 0.6}, {"3": 3})["3"], weights(part(A, OTHER), {"3": 0.5, "4": 0.6})["3"])
