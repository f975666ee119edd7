"""Tuning before playing: which tones, and how far a held one is from them."""

from __future__ import annotations

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.hearing.one_tone import cents_off, tones_to_tune
from didactor.core.instruments import BY_SLUG, INSTRUMENTS
from didactor.core.sound.player.performance import PerformedNote
from didactor.core.sound.player.render import synthesise
from didactor.core.sound.player.rooms import ROOMS, SYNTH_RATE_HZ, add_room
from didactor.core.sound.recording import RATE_HZ


def held(slug: str, midi: int, cents: float, source: str = "timgm") -> np.ndarray:
    note = PerformedNote(
        onset_s=0.6, offset_s=2.8, midi=midi, velocity=80, cents=cents, id="n", pass_=1, staff=1, expected_midi=midi, quarters=0.0
    )
    dry = synthesise([note], BY_SLUG[slug], source, seed=4)
    wet = add_room(dry, ROOMS["bedroom"], np.random.default_rng(1))
    noise = np.random.default_rng(2).normal(0, 0.002, len(wet))
    return soxr.resample((wet + noise).astype(np.float32), SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)


class TonesTests(SimpleTestCase):
    def test_strings_are_tuned_one_by_one_in_written_pitch(self):
        self.assertEqual(tones_to_tune(BY_SLUG["violin"]), (("G3", 55), ("D4", 62), ("A4", 69), ("E5", 76)))
        self.assertEqual([name for name, _ in tones_to_tune(BY_SLUG["guitar"])], ["E2", "A2", "D3", "G3", "B3", "E4"])
        self.assertEqual([midi for _, midi in tones_to_tune(BY_SLUG["guitar"])], [40, 45, 50, 55, 59, 64])
        self.assertEqual(tones_to_tune(BY_SLUG["double-bass"])[0][1], 28)

    def test_winds_have_one_tone_that_they_can_play_in_their_own_key(self):
        self.assertEqual([name[:-1] for name, _ in tones_to_tune(BY_SLUG["trumpet"])], ["C"])
        self.assertEqual([name[:-1] for name, _ in tones_to_tune(BY_SLUG["alto-saxophone"])], ["G"])
        self.assertEqual([name[:-1] for name, _ in tones_to_tune(BY_SLUG["flute"])], ["A"])
        for instrument in INSTRUMENTS:
            for _, midi in tones_to_tune(instrument):
                self.assertTrue(instrument.low - 1 <= midi <= instrument.high, instrument.slug)

    def test_who_cannot_tune_is_not_asked_to(self):
        for slug in ("piano", "percussion", "glockenspiel"):
            if slug in BY_SLUG:
                self.assertEqual(tones_to_tune(BY_SLUG[slug]), (), slug)


class CentsTests(SimpleTestCase):
    def test_a_held_tone_is_measured_to_a_few_cents_on_every_kind_of_instrument(self):
        for slug, midi in (
            ("violin", 69),
            ("violin", 55),
            ("double-bass", 28),
            ("flute", 81),
            ("trumpet", 70),
            ("guitar", 40),
            ("tuba", 46),
        ):
            exact = cents_off(held(slug, midi, 0.0), midi)
            assert exact is not None, slug
            for cents in (-38.0, -9.0, 17.0):
                with self.subTest(slug=slug, midi=midi, cents=cents):
                    found = cents_off(held(slug, midi, cents), midi)
                    assert found is not None
                    # Sound fonts are a few cents off by themselves: the difference is what was played.
                    self.assertAlmostEqual(found - exact, cents, delta=3.0)

    def test_another_note_noise_and_silence_are_no_tone(self):
        self.assertIsNone(cents_off(held("violin", 72, 0.0), 69))
        self.assertIsNone(cents_off(np.random.default_rng(1).normal(0, 0.1, 3 * RATE_HZ).astype(np.float32), 69))
        self.assertIsNone(cents_off(np.zeros(2 * RATE_HZ, np.float32), 69))
        self.assertIsNone(cents_off(np.zeros(100, np.float32), 28))
