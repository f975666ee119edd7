"""A teacher's recording laid over the score, stretched, and the names of notes said in time."""

from __future__ import annotations

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.errors import AudioError
from didactor.core.instruments import BY_SLUG
from didactor.core.laid_over import lay_over
from didactor.core.sound.player.expression import drawn
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from didactor.core.sound.spoken_names import say_names
from didactor.core.sound.stretch import stretched
from tests.music import TUNE, expectation, played

CLARINET = BY_SLUG["clarinet"]
#: The same length and metre, other notes.
OTHER = (
    "G4:q | G4:q B4:q D5:q G5:q | F#5:q A5:h C#5:q | B4:h. E5:q | E5:q C#5:q A4:h | "
    "D5:e D5:e F#5:q A5:q D5:q | C#5:h E5:h | B4:q G5:q F#5:q E5:q | D5:w"
)


class LaidOverTests(SimpleTestCase):
    def test_bar_starts_of_an_expressive_player_are_where_they_sound(self):
        expected = expectation(TUNE)
        style = Style(scatter_ms=8.0, expression=drawn("rubato", np.random.default_rng(4)))
        made = simulate(expected, CLARINET, 70.0, style=style, seed=4, room="classroom")
        before = simulate(expectation(OTHER), BY_SLUG["piano"], 100.0, seed=2).samples[: 4 * SYNTH_RATE_HZ]
        samples = soxr.resample(np.concatenate([before, made.samples]), SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
        laid = lay_over(Recording(samples=samples), expected, CLARINET, 92.0)
        at = {note.id: note.onset_quarters for note in expected.notes}
        heard = {at[n["id"]]: n["sounding_onset_s"] + 4.0 for n in made.truth["notes"]}
        errors = [
            abs(laid.second_of(bar.start_quarters) - heard[bar.start_quarters]) for bar in expected.bars if bar.start_quarters in heard
        ]
        self.assertGreater(len(errors), 6)
        self.assertLess(float(np.median(errors)), 0.03)
        self.assertLess(abs(laid.tempo_qpm - 70.0), 6.0)
        quarters, seconds = zip(*laid.anchors, strict=True)
        self.assertEqual((quarters[0], quarters[-1]), (0.0, expected.bars[-1].start_quarters + expected.bars[-1].length_quarters))
        self.assertTrue(all(np.diff(quarters) > 0) and all(np.diff(seconds) > 0))

    def test_other_music_silence_and_half_of_it_are_refused(self):
        half = np.asarray(played().samples)
        cases = {
            "other notes": np.asarray(played(text=OTHER).samples),
            "silence": np.zeros(5 * RATE_HZ, np.float32),
            "half": np.concatenate([half[: int(0.4 * len(half))], np.zeros(RATE_HZ, np.float32)]),
        }
        for name, samples in cases.items():
            with self.subTest(name), self.assertRaises(AudioError):
                lay_over(Recording(samples=samples.astype(np.float32)), expectation(TUNE), CLARINET, 92.0)


class StretchTests(SimpleTestCase):
    def test_slower_at_the_same_pitch_and_every_onset_in_its_place(self):
        time = np.arange(3 * RATE_HZ) / RATE_HZ
        tone = (0.3 * np.sin(2 * np.pi * 440 * time) * ((time % 0.5) < 0.25)).astype(np.float32)
        slow = stretched(tone, RATE_HZ, 1.5)
        self.assertAlmostEqual(len(slow) / RATE_HZ, 4.5, delta=0.05)
        spectrum = np.abs(np.fft.rfft(slow))
        self.assertAlmostEqual(float(np.argmax(spectrum)) * RATE_HZ / len(slow), 440.0, delta=3.0)
        level = np.sqrt(np.convolve(slow**2, np.ones(320) / 320, "same"))
        rises = np.flatnonzero((level[1:] > 0.1) & (level[:-1] <= 0.1)) / RATE_HZ
        for due in (0.75, 1.5, 2.25, 3.0):
            self.assertLess(float(np.min(np.abs(rises - due))), 0.015)
        self.assertIs(stretched(tone, RATE_HZ, 1.0), tone)


class SaidNamesTests(SimpleTestCase):
    def test_every_name_sounds_at_its_time_and_none_where_nothing_is_due(self):
        sound = say_names([0.5, 1.5, 3.5], ["C", "F♯", "-v whatever"], 5.0)
        self.assertEqual(len(sound), 5 * SYNTH_RATE_HZ)
        level = lambda a, b: float(np.abs(sound[int(a * SYNTH_RATE_HZ) : int(b * SYNTH_RATE_HZ)]).max())  # noqa: E731
        for due in (0.5, 1.5, 3.5):
            self.assertGreater(level(due, due + 0.3), 0.15)
        self.assertLess(level(2.6, 3.1), 0.02)
