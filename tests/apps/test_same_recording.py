"""The same recording handed in twice, by another student or once more, is set apart."""

from __future__ import annotations

import io

import numpy as np
from django.test import TestCase
from django.urls import reverse

from didactor.core.sound.player.take import wav_bytes
from didactor.core.sound.recording import RATE_HZ
from didactor.people.models import Consent
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take
from didactor.takes.services import receive_take, submit_take
from tests import scene as scenes
from tests.music import played


class SameRecordingTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        Consent.objects.create(student=self.scene.ossian.student, given_by="Runa", recorded_by=self.scene.teacher)
        self.first = self.take(self.scene.task, played())

    def take(self, task, recording, gain: float = 1.0, from_s: float = 0.0) -> Take:
        samples = gain * np.asarray(recording.samples)[int(from_s * RATE_HZ) :]
        source = io.BytesIO(wav_bytes(samples.astype(np.float32), RATE_HZ))
        take = receive_take(student=task.student, task=task, source=source, filename="take.wav")
        analyse_take(take_id=take.pk)
        return Take.objects.get(pk=take.pk)

    def test_softer_and_cut_at_the_beginning_it_is_known_again(self):
        again = self.take(self.scene.task, played(), gain=0.5, from_s=0.4)
        self.assertEqual(again.same_as, self.first)
        self.assertIsNone(self.first.same_as)
        submit_take(take=again)
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        words = "By its timing this is the same recording as their own take 1."
        self.assertContains(self.client.get(reverse("review:waiting")), words)
        self.assertContains(self.client.get(reverse("review:detail", args=[again.submission.pk])), words)

    def test_another_student_s_recording_is_told_with_their_name(self):
        theirs = self.take(self.scene.other_task, played(), gain=0.7)
        self.assertEqual(theirs.same_as, self.first)
        submit_take(take=theirs)
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.assertContains(self.client.get(reverse("review:waiting")), "the same recording as Ylva’s take 1")

    def test_another_take_is_another(self):
        self.assertIsNone(self.take(self.scene.task, played(seed=9)).same_as)
        self.assertIsNone(self.take(self.scene.task, played(tempo=96.0, seed=4)).same_as)

    def test_what_it_was_the_same_as_may_go(self):
        again = self.take(self.scene.task, played(), gain=0.5)
        Take.objects.filter(pk=self.first.pk).delete()
        self.assertIsNone(Take.objects.get(pk=again.pk).same_as)
