"""Recordings go when they are as old as their studio keeps them; everything else stays."""

from __future__ import annotations

from datetime import timedelta

from django.core.files.base import ContentFile
from django.core.files.storage import default_storage
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.people.models import Studio
from didactor.review.services import Draft, open_review, send
from didactor.takes.jobs import discard_uploads
from didactor.takes.models import Analysis, Submission, Take, Together
from didactor.takes.retention import let_recordings_go
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import wav

BACKEND = "didactor.people.backends.PasswordBackend"


class RetentionTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scenes.build(listen_first=False)
        self.take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        self.studio = self.scene.teacher.studio

    def kept_for(self, months: int | None, **age: float) -> None:
        Studio.objects.update(keep_months=months)
        Take.objects.update(created_at=timezone.now() - timedelta(**age))

    def went(self) -> int:
        with self.captureOnCommitCallbacks(execute=True):
            return let_recordings_go()

    def files(self) -> list[bool]:
        return [default_storage.exists(name) for name in (self.take.original.name, self.take.playback.name)]

    def test_what_is_old_goes_by_night_and_the_record_stays(self):
        review = open_review(submission=submit_take(take=Take.objects.get(pk=self.take.pk)), teacher=self.scene.teacher)
        send(review=review, draft=Draft(text="Once more, slowly.", decision="once_more"))
        self.kept_for(6, days=184)
        with self.captureOnCommitCallbacks(execute=True):
            discard_uploads(0)
        self.assertEqual(self.files(), [False, False])
        take = Take.objects.get(pk=self.take.pk)
        self.assertFalse(take.original or take.playback or take.peaks)
        self.assertIsNotNone(take.recording_gone_at)
        self.assertTrue(Analysis.objects.filter(take=take).exists() and Submission.objects.filter(take=take).exists())
        for person, url in (
            (self.scene.teacher, reverse("review:detail", args=[take.submission.pk])),
            (self.scene.ylva.student, reverse("stand:take", args=[take.pk])),
        ):
            self.client.force_login(person, backend=BACKEND)
            page = self.client.get(url)
            self.assertContains(page, "The recording itself went on")
            self.assertNotContains(page, "data-take-sound")
            self.assertContains(page, "Once more, slowly.")
            for name in ("takes:sound", "takes:original"):
                self.assertEqual(self.client.get(reverse(name, args=[take.pk])).status_code, 404)
        for name in ("task", "record"):
            pk = take.task_id if name == "task" else self.scene.ylva.student_id
            self.assertEqual(self.client.get(reverse(name, args=[pk])).status_code, 200 if name == "task" else 404)
        self.assertEqual(self.went(), 0)

    def test_a_younger_one_and_one_without_a_limit_stay(self):
        for months, days in ((6, 181), (None, 5000), (60, 1800)):
            self.kept_for(months, days=days)
            self.assertEqual((self.went(), self.files()), (0, [True, True]), (months, days))

    def test_another_studio_s_stay(self):
        self.kept_for(6, days=400)
        Studio.objects.filter(pk=self.studio.pk).update(keep_months=None)
        scenes.teacher("Elsewhere", "elsa")
        Studio.objects.exclude(pk=self.studio.pk).update(keep_months=6)
        self.assertEqual((self.went(), self.files()), (0, [True, True]))

    def test_what_waits_for_the_teacher_or_the_ear_stays_until_then(self):
        submission = submit_take(take=Take.objects.get(pk=self.take.pk))
        self.kept_for(6, days=400)
        self.assertEqual(self.went(), 0)
        Submission.objects.filter(pk=submission.pk).update(answered_at=timezone.now())
        Take.objects.update(state="analysing")
        self.assertEqual(self.went(), 0)
        Take.objects.update(state="analysed")
        self.assertEqual((self.went(), self.files()), (1, [False, False]))

    def test_the_same_bytes_of_a_younger_take_and_what_is_heard_together(self):
        self.kept_for(6, days=400)
        twin = scenes.recorded_by(scenes.another(self.scene, "Tove"), self.take.original.read())
        self.assertEqual(twin.original.name, self.take.original.name)
        made = Together.objects.create(assignment=self.scene.assignment, tempo=92, made_by=self.scene.teacher)
        made.takes.set([self.take, twin])
        made.sound.save("all.mp3", ContentFile(b"together"))
        self.assertEqual((self.went(), self.files()), (1, [True, False]))
        self.assertFalse(default_storage.exists(made.sound.name) or Together.objects.exists())

    def test_the_owner_decides_how_long(self):
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        for sent, kept, status in (("12", 12, 302), ("7", 12, 404), ("²", 12, 404), ("", None, 302)):
            self.assertEqual(self.client.post(reverse("people:keep"), {"keep": sent}).status_code, status)
            self.assertEqual(Studio.objects.get().keep_months, kept)
        type(self.scene.teacher).objects.filter(pk=self.scene.teacher.pk).update(is_owner=False)
        self.assertEqual(self.client.post(reverse("people:keep"), {"keep": "6"}).status_code, 404)
        self.assertIsNone(Studio.objects.get().keep_months)
        scenes.recorded_by(self.scene.task, wav(seed=31))
