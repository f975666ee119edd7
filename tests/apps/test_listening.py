"""Listening tasks: an answer in words, and what comes back."""

from __future__ import annotations

from unittest import mock

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse

from didactor.assignments import services
from didactor.assignments.models import Assignment, TaskState
from didactor.progress.services import erase_student
from tests import scene as scenes
from tests.music import tone

BACKEND = "didactor.people.backends.PasswordBackend"


class SoundBackTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        Assignment.objects.update(step="listen", question="Which instrument leads?")

    def setUp(self):
        self.task = self.scene.task
        self.task.refresh_from_db()

    def test_an_answer_in_words_gets_words_and_a_sound_back(self):
        task = self.task
        services.answer_question(task=task, text="The cello.")
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        url, desk = reverse("review:decide_words", args=[task.pk]), reverse("review:waiting")
        # What is no recording decides nothing, and what was typed stays.
        page = self.client.post(url, {"passed": "0", "reply": "Listen below it.", "recording": SimpleUploadedFile("a.wav", b"no sound")})
        self.assertContains(page, "Listen below it.", status_code=422)
        self.assertContains(page, "Nothing is decided yet", status_code=422)
        task.refresh_from_db()
        self.assertEqual((task.state, task.reply), (TaskState.HANDED_IN, ""))
        large = SimpleUploadedFile("a.wav", b"x")
        with mock.patch.object(services, "MOST_REPLY_BYTES", 0):
            self.assertContains(self.client.post(url, {"passed": "0", "recording": large}), "larger than", status_code=422)
        self.assertRedirects(
            self.client.post(url, {"passed": "0", "reply": "Below it.", "recording": SimpleUploadedFile("a.wav", tone())}), desk
        )
        task.refresh_from_db()
        first = task.reply_sound.name
        self.assertEqual((task.state, task.reply), (TaskState.ANSWERED, "Below it."))
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)
        heard = reverse("stand:reply_sound", args=[task.pk])
        self.assertContains(self.client.get(reverse("task", args=[task.pk])), heard)
        self.assertEqual(self.client.get(heard, headers={"Range": "bytes=0-9"}).status_code, 206)
        # Decided again without a sound, the first one is gone, its file too.
        services.answer_question(task=task, text="The tuba.")
        with self.captureOnCommitCallbacks(execute=True):
            self.assertTrue(services.decide_answer(task=task, passed=True, reply="Yes."))
        self.assertFalse(task.reply_sound.storage.exists(first))
        self.assertNotContains(self.client.get(reverse("task", args=[task.pk])), heard)
        self.assertEqual(self.client.get(heard).status_code, 404)

    def test_a_student_erased_takes_along_what_was_said_back(self):
        task = self.task
        services.answer_question(task=task, text="The cello.")
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        url = reverse("review:decide_words", args=[task.pk])
        self.client.post(url, {"passed": "1", "recording": SimpleUploadedFile("a.wav", tone())})
        task.refresh_from_db()
        name, storage = task.reply_sound.name, task.reply_sound.storage
        self.assertTrue(storage.exists(name))
        with self.captureOnCommitCallbacks(execute=True):
            erase_student(self.scene.ylva.student)
        self.assertFalse(storage.exists(name))
