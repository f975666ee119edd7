"""The simulated player: seeded, exact, human, and every fault where it was asked for."""

from __future__ import annotations

from typing import Any

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.errors import PassageError
from didactor.core.instruments import BY_SLUG
from didactor.core.sound.player.degrade import degrade
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


class MoreFaultTests(SimpleTestCase):
    def kinds(self, fault: dict[str, Any]) -> list[PerformedNote]:
        return performance(fault)

    def test_faults_of_the_whole_take(self):
        clean = performance()
        sharps = [n for n in expectation(TUNE).notes if n.written_pitch.startswith("F#")]
        natural = {n.id: n.midi for n in self.kinds({"kind": "key", "step": "F"})}
        self.assertEqual({natural[n.id] - n.sounding_midi for n in sharps}, {-1})
        self.assertEqual(len({n.velocity for n in self.kinds({"kind": "flat"})}), 1)
        sinking = [n.cents for n in self.kinds({"kind": "tuning_drift", "cents": -40})]
        self.assertEqual((sinking[0], sinking[-1]), (0.0, -40.0))
        late = self.kinds({"kind": "entry", "beats": 1.0})
        self.assertAlmostEqual(late[0].onset_s - clean[0].onset_s, 0.5, places=2)
        self.assertEqual(len(self.kinds({"kind": "stroke", "count": 2})), len(clean) + 2)

    def test_uneven_pairs_and_a_slower_end(self):
        clean = {n.id: n.onset_s for n in performance()}
        limping = {n.id: n.onset_s for n in self.kinds({"kind": "uneven", "percent": 60})}
        moved = {n.beat % 1: round(limping[n.id] - clean[n.id], 3) for n in expectation(TUNE).notes if n.beat % 1 in (0.0, 0.5)}
        self.assertEqual(moved, {0.0: 0.0, 0.5: 0.05})
        slowed = np.diff([n.onset_s for n in self.kinds({"kind": "ritardando", "percent": 60})])
        self.assertGreater(slowed[-1], 1.2 * np.diff([n.onset_s for n in performance()])[-1])

    def test_a_note_held_through_its_rest(self):
        held = next(n for n in self.kinds({"kind": "filled", "bar": "4", "beat": 0}) if n.quarters == 13.0)
        self.assertAlmostEqual(held.offset_s, 1.0 + 0.5 * 17.0, delta=0.02)

    def test_a_repeat_not_taken_plays_each_bar_once(self):
        passage = expectation("|: C4:q D4:q E4:q F4:q | G4:w :| C4:w", fifths=0)
        notes = perform(passage, BY_SLUG["clarinet"], 120.0, EVEN, np.random.default_rng(1), 1.0)
        once = apply_faults(notes, [{"kind": "repeat"}], passage)
        self.assertEqual((len(notes), len(once)), (11, 6))
        self.assertAlmostEqual(once[-1].onset_s, 1.0 + 0.5 * 8, places=3)


class SoundTests(SimpleTestCase):
    def test_every_degradation_changes_the_sound_and_keeps_its_time(self):
        clean = simulate(expectation(TUNE, bars="1-2"), BY_SLUG["flute"], 100.0, seed=5, source="additive")
        steps: list[dict[str, Any]] = [
            {"kind": "noise"},
            {"kind": "hum"},
            {"kind": "speech"},
            {"kind": "click", "bpm": 100},
            {"kind": "phone"},
            {"kind": "gain"},
            {"kind": "clip"},
            {"kind": "dropout"},
            {"kind": "codec", "name": "opus"},
            {"kind": "codec", "name": "mp3", "bit_rate": 48_000},
            {"kind": "codec", "name": "aac", "bit_rate": 32_000},
            {"kind": "rate", "hz": 11_025},
            {"kind": "quiet"},
        ]
        for step in steps:
            with self.subTest(step=step):
                sound, _ = degrade(clean.samples, [step], np.random.default_rng(1))
                self.assertEqual(len(sound), len(clean.samples))
                self.assertFalse(np.allclose(sound, clean.samples, atol=1e-4))
                middle = slice(44_100, 3 * 44_100)
                self.assertGreater(float(np.corrcoef(sound[middle], clean.samples[middle])[0, 1]), 0.85)
        sound, known = degrade(clean.samples, [{"kind": "cut", "start_s": 0.5}, {"kind": "applause"}], np.random.default_rng(1))
        self.assertEqual((known["shift_s"], len(sound) - len(clean.samples)), (0.5, int(2.5 * 44_100)))
        with self.assertRaisesMessage(PassageError, "no degradation “rain”"):
            degrade(clean.samples, [{"kind": "rain"}], np.random.default_rng(1))

    def test_a_source_of_our_own_plays_in_tune(self):
        from didactor.core.hearing.events import find_events, find_tuning
        from didactor.core.hearing.features import listen
        from didactor.core.sound.recording import RATE_HZ

        for slug in ("violin", "trumpet", "guitar"):
            take = simulate(expectation(TUNE, bars="1-3"), BY_SLUG[slug], 90.0, style=EVEN, seed=5, source="additive")
            features = listen(soxr.resample(take.samples, 44_100, RATE_HZ).astype(np.float32), BY_SLUG[slug])
            self.assertAlmostEqual(find_tuning(features)[0], 0.0, delta=5.0)
            heard = {e.midi for e in find_events(features, BY_SLUG[slug], 0.0) if not e.soft}
            self.assertTrue({n["midi"] for n in take.truth["notes"]} <= heard)


class CountedOffTests(SimpleTestCase):
    def test_a_count_off_sounds_whatever_source_plays(self):
        """Once the source of our own gave the times of a count that was not in its sound."""
        for source in ("timgm", "additive"):
            with self.subTest(source=source):
                made = simulate(expectation(TUNE), BY_SLUG["clarinet"], 120.0, source=source, seed=3, count_off=4)
                for time_s in made.truth["clicks_s"]:
                    begin = int(time_s * 44_100)
                    before, at = made.samples[begin - 4000 : begin - 400], made.samples[begin : begin + 3600]
                    self.assertGreater(np.abs(at).max(), 0.05 + 3 * np.abs(before).max())
