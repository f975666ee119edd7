"""A few seconds are judged before anything is recorded; nothing of them is kept."""

from __future__ import annotations

import numpy as np
from django.test import TestCase
from django.urls import reverse

from didactor.core.errors import AudioError
from didactor.core.sound.player.take import wav_bytes
from didactor.people.services import record_consent
from didactor.takes.models import Take, Upload
from didactor.takes.soundcheck import GOOD, MOST_BYTES, check_sound
from tests import scene as scenes
from tests.music import tone

RATE_HZ = 44_100


def playing(seconds: float = 5.0, level: float = 0.3, noise: float = 0.0005) -> np.ndarray:
    """Notes with gaps between them, as a clarinet plays a few, and the room."""
    time = np.arange(int(seconds * RATE_HZ)) / RATE_HZ
    tone = sum(np.sin(2 * np.pi * 440 * n * time) / n for n in (1, 2, 3, 4, 5, 6))
    sounding = ((time % 0.8) < 0.6) & (time > 0.4) & (time < seconds - 0.4)
    return (level * tone * sounding / 2 + noise * np.random.default_rng(1).standard_normal(len(time))).astype(np.float32)


def checked(samples: np.ndarray):
    return check_sound(wav_bytes(samples, RATE_HZ))


class VerdictTests(TestCase):
    def test_good_sound_is_good(self):
        found = checked(playing())
        self.assertEqual((found.good, found.says), (True, (GOOD,)))

    def test_what_is_wrong_is_said_with_what_to_change(self):
        for name, samples, words in (
            ("silent", playing(level=0.0, noise=0.0), "Choose another input"),
            ("quiet", playing(level=0.006, noise=0.00001), "Move closer to the microphone"),
            ("too loud", np.clip(playing(level=4.0), -1, 1), "distorts"),
            ("noisy", playing(level=0.05, noise=0.02), "quieter place"),
        ):
            found = checked(samples)
            self.assertFalse(found.good, name)
            self.assertIn(words, " ".join(found.says), name)

    def test_playing_that_was_cut_out_of_the_middle_is_no_fault_here(self):
        self.assertEqual(checked(playing(6.0)[RATE_HZ : 5 * RATE_HZ]).says, (GOOD,))

    def test_too_short_and_no_sound_at_all_are_refused_with_words(self):
        with self.assertRaisesMessage(AudioError, "Play for a few seconds"):
            checked(playing(0.3))
        with self.assertRaises(AudioError):
            check_sound(b"no sound")


class DelayTests(TestCase):
    def clicked(self, late_s: float, level: float = 0.4) -> tuple[np.ndarray, tuple[float, ...]]:
        """Four clicks of the recorder as they come back through a room, then playing."""
        sound = playing(8.0)
        sound[: int(2.4 * RATE_HZ)] = 0.0005 * np.random.default_rng(3).standard_normal(int(2.4 * RATE_HZ))
        times = (0.4, 0.75, 1.1, 1.45)
        length = np.arange(int(0.06 * RATE_HZ)) / RATE_HZ
        click = level * np.sin(2 * np.pi * 1760 * length) * np.exp(-length / 0.012)
        for time in times:
            at = int((time + late_s) * RATE_HZ)
            sound[at : at + len(click)] += click.astype(np.float32)
        return sound, times

    def test_how_late_a_device_records_what_it_plays_is_measured(self):
        for late_s in (0.02, 0.11, 0.24):
            sound, times = self.clicked(late_s)
            found = check_sound(wav_bytes(sound, RATE_HZ), times)
            self.assertAlmostEqual(found.late_s or 0.0, late_s, delta=0.006)
            self.assertTrue(found.good, found.says)

    def test_in_headphones_nothing_is_measured_and_loud_clicks_do_not_make_a_silent_microphone_good(self):
        sound, times = self.clicked(0.1, level=0.0)
        self.assertIsNone(check_sound(wav_bytes(sound, RATE_HZ), times).late_s)
        sound, times = self.clicked(0.1)
        sound[int(2.0 * RATE_HZ) :] = 0.0
        self.assertIn("Choose another input", " ".join(check_sound(wav_bytes(sound, RATE_HZ), times).says))


class AddressTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build()
        self.client.force_login(self.scene.ylva.student)
        self.url = reverse("stand:sound_check", args=[self.scene.task.pk])

    def post(self, body: bytes):
        return self.client.post(self.url, body, content_type="audio/wav")

    def test_it_answers_and_keeps_nothing(self):
        answer = self.post(wav_bytes(playing(), RATE_HZ))
        self.assertEqual((answer.status_code, answer.json()), (200, {"good": True, "says": [GOOD], "late": None}))
        self.assertFalse(Take.objects.exists() or Upload.objects.exists())

    def test_what_cannot_be_judged_is_said(self):
        for body, words in ((b"", "empty"), (b"RIFF no sound", ""), (b"\0" * (MOST_BYTES + 1), "A few seconds are enough")):
            answer = self.post(body)
            self.assertEqual(answer.status_code, 422)
            self.assertFalse(answer.json()["good"])
            self.assertTrue(words in answer.json()["says"][0] or words == "empty", answer.json())

    def test_without_consent_nothing_is_listened_to(self):
        self.client.force_login(self.scene.ossian.student)
        answer = self.client.post(
            reverse("stand:sound_check", args=[self.scene.other_task.pk]), wav_bytes(playing(), RATE_HZ), content_type="audio/wav"
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("consent", answer.json()["says"][0])


class TuningTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build()
        self.client.force_login(self.scene.other_task.enrolment.student)
        record_consent(student=self.scene.ossian.student, given_by="Runa", recorded_by=self.scene.teacher)
        self.url = reverse("stand:tuning", args=[self.scene.other_task.pk])

    def play(self, hz: float, tone_asked: object = 69, body: bytes | None = None):
        return self.client.post(f"{self.url}?tone={tone_asked}", body or tone(2.0, hz=hz), content_type="audio/wav")

    def test_a_tone_is_flat_sharp_or_in_tune_by_so_many_cents(self):
        for cents, called in ((-20, "flat"), (3, "in tune"), (14, "sharp")):
            found = self.play(440 * 2 ** (cents / 1200)).json()
            self.assertEqual(found["called"], called)
            self.assertAlmostEqual(found["cents"], cents, delta=1)

    def test_another_tone_than_asked_is_not_heard_and_only_the_instruments_are_asked(self):
        self.assertIn("not heard", self.play(523.25).json()["says"])
        for wrong in ("70", "", "²", "-69", "nan"):
            self.assertEqual(self.play(440, wrong).status_code, 400, wrong)

    def test_what_is_no_sound_or_too_long_gets_a_plain_word(self):
        self.assertEqual(self.play(440, body=b"no sound at all").status_code, 422)
        self.assertIn("A few seconds are enough", self.play(440, body=b"x" * (MOST_BYTES + 1)).json()["says"])
