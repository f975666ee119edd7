"""The simulated player: seeded, exact, human, and every fault where it was asked for."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.test import SimpleTestCase

from didactor.core.errors import PassageError
from didactor.core.instruments import BY_SLUG
from didactor.core.sound.player.faults import apply_faults
from didactor.core.sound.player.performance import PerformedNote, Style, perform
from didactor.core.sound.player.take import model_samples, simulate
from tests.music import TUNE, expectation

EVEN = Style(scatter_ms=0.0, wander_percent=0.0, note_cents=0.0)


def performance(*faults: dict[str, Any], style: Style = EVEN, seed: int = 1) -> list[PerformedNote]:
    expected, rng = expectation(TUNE), np.random.default_rng(seed)
    return apply_faults(perform(expected, BY_SLUG["clarinet"], 120.0, style, rng, 1.0), list(faults), expected)


class PerformanceTests(SimpleTestCase):
    def test_an_even_player_is_exact(self):
        notes, written = performance(), expectation(TUNE).notes
        for played, expected in zip(notes, written, strict=True):
            self.assertAlmostEqual(played.onset_s, 1.0 + 0.5 * expected.onset_quarters, places=6)

    def test_a_human_scatters_but_keeps_the_tempo_and_the_order(self):
        notes = performance(style=Style(scatter_ms=25.0, wander_percent=3.0), seed=7)
        onsets = np.array([n.onset_s for n in notes])
        self.assertTrue((np.diff(onsets) > 0).all())
        span = expectation(TUNE).notes[-1].onset_quarters * 0.5
        self.assertAlmostEqual(onsets[-1] - onsets[0], span, delta=0.03 * span)

    def test_the_same_seed_is_the_same_take(self):
        one, two = (simulate(expectation(TUNE, bars="1-2"), BY_SLUG["flute"], 100.0, seed=5) for _ in range(2))
        self.assertTrue(np.array_equal(one.samples, two.samples))
        self.assertEqual(one.truth, two.truth)

    def test_onsets_of_the_truth_are_measured_on_the_sound(self):
        truth = simulate(expectation(TUNE, bars="1-3"), BY_SLUG["flute"], 100.0, seed=5).truth
        delays = [n["sounding_onset_s"] - n["onset_s"] for n in truth["notes"]]
        self.assertTrue(all(0 <= d <= 0.16 for d in delays))

    def test_a_model_is_preceded_by_its_count_off(self):
        with_taps = model_samples(expectation(TUNE, bars="1-2"), BY_SLUG["flute"], 120.0, 4, 1.0)
        without = model_samples(expectation(TUNE, bars="1-2"), BY_SLUG["flute"], 120.0, 0, 1.0)
        self.assertAlmostEqual((len(with_taps) - len(without)) / 44_100, 2.0, delta=0.01)


class FaultTests(SimpleTestCase):
    def at(self, notes: list[PerformedNote], bar: str, beat: float) -> PerformedNote:
        wanted = next(n for n in expectation(TUNE).notes if n.bar == bar and n.beat == beat)
        return next(n for n in notes if n.id == wanted.id)

    def test_pitch_faults(self):
        clean = self.at(performance(), "6", 0.0)
        self.assertEqual(self.at(performance({"kind": "wrong", "bar": "6", "beat": 0, "semitones": -2}), "6", 0.0).midi, clean.midi - 2)
        self.assertEqual(self.at(performance({"kind": "octave", "octaves": 1}), "6", 0.0).midi, clean.midi + 12)
        self.assertEqual(self.at(performance({"kind": "detuned", "bar": "6", "beat": 0, "cents": 33}), "6", 0.0).cents, 33)
        self.assertEqual({n.cents for n in performance({"kind": "tuning", "cents": -20})}, {-20.0})

    def test_missed_and_extra_change_the_count(self):
        count = len(performance())
        self.assertEqual(len(performance({"kind": "missed", "bar": "6", "beat": 0})), count - 1)
        extra = performance({"kind": "extra", "bar": "6", "beat": 0})
        self.assertEqual((len(extra), sum(n.id == "" for n in extra)), (count + 1, 1))

    def test_time_faults(self):
        clean = self.at(performance(), "6", 0.0).onset_s
        self.assertAlmostEqual(self.at(performance({"kind": "late", "bar": "6", "beat": 0, "ms": 120}), "6", 0.0).onset_s, clean + 0.12)
        paused = performance({"kind": "hesitation", "bar": "6", "beat": 0, "beats": 2})
        self.assertAlmostEqual(self.at(paused, "6", 0.0).onset_s, clean + 1.0, places=2)
        doubled = performance({"kind": "tempo", "factor": 2.0})
        self.assertAlmostEqual(self.at(doubled, "6", 0.0).onset_s, 1.0 + (clean - 1.0) / 2)
        rushed = performance({"kind": "drift", "percent": 2.0})
        steps = np.diff([n.onset_s for n in rushed]) / np.diff([n.quarters for n in rushed])
        self.assertGreater(steps[0], steps[-1])

    def test_jumps_play_bars_again_or_not_at_all(self):
        again = performance({"kind": "restart", "bar": "6", "beat": 0, "bars": 1})
        bars = [next(e.bar for e in expectation(TUNE).notes if e.id == n.id) for n in again]
        runs = [bar for i, bar in enumerate(bars) if i == 0 or bars[i - 1] != bar]
        self.assertEqual(runs, ["0", "1", "2", "3", "4", "5", "6", "7", "8"])
        self.assertEqual(bars.count("5"), 8)
        left_out = performance({"kind": "skip", "bar": "6", "beat": 0, "bars": 1})
        self.assertFalse({n.id for n in left_out} & {e.id for e in expectation(TUNE).notes if e.bar == "6"})

    def test_a_cut_note_is_short(self):
        clean, cut = (self.at(performance(*f), "4", 0.0) for f in ((), ({"kind": "cut", "bar": "4", "beat": 0, "share": 0.3},)))
        self.assertAlmostEqual(cut.offset_s - cut.onset_s, 0.3 * (clean.offset_s - clean.onset_s), places=3)

    def test_unknown_kinds_and_places_are_named(self):
        with self.assertRaisesMessage(PassageError, "no fault “sneeze”"):
            performance({"kind": "sneeze"})
        with self.assertRaisesMessage(PassageError, "not in the passage"):
            performance({"kind": "missed", "bar": "77"})
