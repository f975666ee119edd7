"""Recordings in: kinds of file, damage, quality, the copy for playing back."""

from __future__ import annotations

import tempfile

import numpy as np
from django.test import SimpleTestCase

from didactor.core.errors import AudioError
from didactor.core.sound.gate import assess
from didactor.core.sound.player.take import wav_bytes
from didactor.core.sound.recording import RATE_HZ, Recording, open_recording, open_with_copy
from tests.music import encoded, played, silence, tone, video_without_sound, wav


def opened(data: bytes) -> Recording:
    with tempfile.TemporaryFile() as source:
        source.write(data)
        source.flush()
        return open_recording(source)


class DecodingTests(SimpleTestCase):
    def test_common_kinds_keep_their_length(self):
        samples = np.asarray(played().samples)[: 4 * RATE_HZ]
        kinds = (
            ("flac", "flac"),
            ("mp3", "mp3"),
            ("libopus", "ogg"),
            ("libopus", "webm"),
            ("aac", "mp4"),
            ("aac", "mov"),
            ("libopencore_amrnb", "amr"),
        )
        for codec, container in kinds:
            with self.subTest(codec=codec, container=container):
                self.assertAlmostEqual(opened(encoded(samples, RATE_HZ, codec, container)).duration_s, 4.0, delta=0.1)

    def test_two_channels_that_cancel_are_not_lost(self):
        time = np.arange(RATE_HZ) / RATE_HZ
        wave = (0.3 * np.sin(2 * np.pi * 440 * time)).astype(np.float32)
        import io

        from scipy.io import wavfile

        buffer = io.BytesIO()
        wavfile.write(buffer, RATE_HZ, np.stack([wave, -wave], axis=1))
        self.assertGreater(np.abs(opened(buffer.getvalue()).samples).max(), 0.2)

    def test_files_that_are_no_recording_get_a_sentence(self):
        cases = (
            (b"", "audio.empty"),
            (b"This is a letter, not a recording.", "audio.not_sound"),
            (video_without_sound(), "audio.no_sound"),
        )
        for data, code in cases:
            with self.subTest(code=code), self.assertRaises(AudioError) as caught:
                opened(data)
            self.assertEqual(caught.exception.code, code)

    def test_a_recording_of_hours_is_refused_early(self):
        long_silence = encoded(np.zeros(25 * 60 * 8000, dtype=np.float32), 8000, "flac", "flac")
        with self.assertRaises(AudioError) as caught:
            opened(long_silence)
        self.assertEqual(caught.exception.code, "audio.too_long")

    def test_a_file_that_breaks_off_says_where(self):
        whole = encoded(np.asarray(played().samples), RATE_HZ, "flac", "flac")
        recording = opened(whole[: len(whole) // 2])
        self.assertEqual([p.code for p in recording.problems], ["cut_off"])

    def test_the_copy_tells_its_delay(self):
        with tempfile.TemporaryFile() as source:
            source.write(wav())
            source.flush()
            recording, copy = open_with_copy(source)
        self.assertAlmostEqual(copy.duration_s, recording.duration_s, places=3)
        again = opened(copy.body)
        shift = int(copy.delay_s * RATE_HZ)
        a, b = recording.samples[RATE_HZ : 5 * RATE_HZ], again.samples[RATE_HZ + shift : 5 * RATE_HZ + shift]
        self.assertGreater(float(np.corrcoef(a, b)[0, 1]), 0.98)


class GateTests(SimpleTestCase):
    def codes(self, recording: Recording) -> tuple[str, set[str]]:
        quality = assess(recording)
        return quality.verdict, {p.code for p in quality.problems}

    def test_good_takes_pass(self):
        for instrument in ("flute", "cello", "guitar"):
            self.assertEqual(self.codes(played(instrument=instrument)), ("ok", set()))

    def test_silence_and_noise_are_unusable(self):
        self.assertEqual(self.codes(opened(silence())), ("unusable", {"silent"}))
        noise = np.random.default_rng(1).normal(0, 0.1, 5 * RATE_HZ).astype(np.float32)
        self.assertEqual(self.codes(Recording(samples=noise))[0], "unusable")

    def test_a_moment_is_too_short(self):
        self.assertEqual(self.codes(opened(tone(0.2))), ("unusable", {"too_short"}))

    def test_clipping_and_dropouts_are_placed(self):
        samples = np.clip(np.asarray(played().samples) * 8, -1, 1)
        self.assertIn("clipped", self.codes(opened(wav_bytes(samples, RATE_HZ)))[1])
        holed = np.array(played().samples)
        holed[3 * RATE_HZ : int(3.2 * RATE_HZ)] = 0
        quality = assess(Recording(samples=holed))
        self.assertAlmostEqual(next(p.start_s for p in quality.problems if p.code == "dropout"), 3.0, delta=0.01)

    def test_a_quiet_take_is_poor_not_refused(self):
        quiet = (np.asarray(played().samples) * 0.01).astype(np.float32)
        verdict, codes = self.codes(Recording(samples=quiet))
        self.assertEqual((verdict, "too_quiet" in codes), ("poor", True))


class GateProblemTests(SimpleTestCase):
    """Each problem is met where it is, and a clean take has none."""

    def problems(self, *degradations: dict) -> set[str]:
        import numpy as np
        import soxr

        from didactor.core.instruments import BY_SLUG
        from didactor.core.sound.gate import assess
        from didactor.core.sound.player.take import simulate
        from didactor.core.sound.recording import RATE_HZ, Recording
        from tests.music import TUNE, expectation

        take = simulate(
            expectation(TUNE, bars="0-5"),
            BY_SLUG["clarinet"],
            100.0,
            source="additive",
            room="bedroom",
            seed=5,
            degradations=list(degradations),
        )
        samples = soxr.resample(take.samples, 44_100, RATE_HZ).astype(np.float32)
        return {p.code for p in assess(Recording(samples=samples)).problems}

    def test_a_clean_take_has_no_problem(self):
        self.assertEqual(self.problems(), set())

    def test_problems_are_named(self):
        hiss = {"kind": "noise", "snr_db": 32, "colour": "white"}
        self.assertEqual(self.problems(hiss, {"kind": "gain"}), {"gain_riding"})
        self.assertEqual(self.problems(hiss), set())
        self.assertEqual(self.problems({"kind": "cut", "start_s": 1.3}), {"begins_late"})
        self.assertEqual(self.problems({"kind": "cut", "end_s": 6.0}), {"ends_early"})
        self.assertEqual(self.problems({"kind": "phone", "low_hz": 60, "high_hz": 700}), {"muffled"})
        self.assertIn("noisy", self.problems({"kind": "noise", "snr_db": 3, "colour": "white"}))
        self.assertIn("too_quiet", self.problems({"kind": "quiet", "db": -45}))
        self.assertIn("dropout", self.problems({"kind": "dropout", "count": 4}))
