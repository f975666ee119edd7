"""Recordings coming in, being heard, marked, submitted and deleted: nothing is lost, nothing half done."""

from __future__ import annotations

import base64
import hashlib
import io
import json
from pathlib import Path

from django.conf import settings
from django.core.management import call_command
from django.test import TestCase
from django.urls import reverse
from procrastinate.contrib.django.models import ProcrastinateJob

from didactor.assignments.models import TaskState
from didactor.core.sound.recording import MAX_FILE_BYTES
from didactor.people.services import record_consent, withdraw_consent
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Analysis, Take, TakeState, Upload
from didactor.takes.services import (
    OwnMark,
    TakeRefused,
    begin_upload,
    delete_take,
    receive_take,
    review_own_take,
    submit_take,
)
from didactor.takes.upkeep import discard_stale_uploads
from tests import scene as scenes
from tests.music import silence, video_without_sound, wav


class TakeTestCase(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def setUp(self):
        self.student = self.scene.ylva.student
        self.client.force_login(self.student, backend="didactor.people.backends.PasswordBackend")


class HearingTests(TakeTestCase):
    def test_a_take_is_stored_untouched_and_queued_before_anything_else(self):
        data = wav({"kind": "wrong", "bar": "6", "beat": 0.0})
        take = scenes.recorded(self.scene, hear=False, data=data)
        self.assertEqual(take.sha256, hashlib.sha256(data).hexdigest())
        self.assertEqual(take.original.read(), data)
        job = ProcrastinateJob.objects.get(task_name="didactor.takes.jobs.analyse_take")
        self.assertEqual(job.args, {"take_id": take.pk})
        self.assertEqual(self.scene.task.state, TaskState.IN_WORK)

    def test_hearing_twice_is_hearing_once(self):
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        self.assertEqual(take.state, TakeState.ANALYSED)
        self.assertEqual([f["code"] for f in take.latest_analysis.result["findings"]], ["notes.wrong"])
        analyse_take(take_id=take.pk)
        self.assertEqual(Analysis.objects.count(), 1)

    def test_what_a_take_is_judged_against_is_frozen_with_it(self):
        take = scenes.recorded(self.scene, hear=False)
        assignment = self.scene.assignment
        assignment.tempo, assignment.stage = 140.0, "final"
        assignment.save()
        analyse_take(take_id=take.pk)
        result = take.analyses.get().result
        self.assertEqual(
            (result["tempo"]["target_bpm"], result["targets"]["stage"], result["tempo"]["verdict"]), (92.0, "at_tempo", "in_band")
        )

    def test_a_new_engine_adds_a_row_and_keeps_the_old_one(self):
        take = scenes.recorded(self.scene)
        Analysis.objects.update(engine_version="0.0.1")
        call_command("hear_again", stdout=io.StringIO())
        self.assertEqual(ProcrastinateJob.objects.filter(task_name="didactor.takes.jobs.analyse_take").count(), 2)
        analyse_take(take_id=take.pk)
        self.assertEqual(take.analyses.count(), 2)

    def test_bad_recordings_say_what_to_do_and_are_kept(self):
        cases = (
            (b"a letter", "not a recording"),
            (video_without_sound(), "no sound in this file"),
            (silence(), "There is no sound in this take"),
        )
        for data, words in cases:
            with self.subTest(words=words):
                take = scenes.recorded(self.scene, data=data)
                self.assertEqual(take.state, TakeState.UNUSABLE)
                self.assertIn(words, take.trouble)
                self.assertEqual(take.original.read(), data)
                self.assertContains(self.client.get(reverse("stand:take", args=[take.pk])), words)
                with self.assertRaises(TakeRefused):
                    submit_take(take=take)

    def test_the_same_file_twice_is_one_take(self):
        first = scenes.recorded(self.scene, hear=False)
        self.assertEqual(scenes.recorded(self.scene, hear=False).pk, first.pk)


class RulesTests(TakeTestCase):
    def test_a_minor_needs_consent_before_the_first_recording(self):
        ossian, task = self.scene.ossian.student, self.scene.other_task
        with self.assertRaisesMessage(TakeRefused, "consent"):
            receive_take(student=ossian, task=task, source=io.BytesIO(wav()), filename="a.wav")
        record_consent(student=ossian, given_by="Runa", recorded_by=self.scene.teacher)
        receive_take(student=ossian, task=task, source=io.BytesIO(wav()), filename="a.wav")
        withdraw_consent(student=ossian)
        with self.assertRaisesMessage(TakeRefused, "consent"):
            receive_take(student=ossian, task=task, source=io.BytesIO(silence()), filename="b.wav")

    def test_the_number_of_takes_is_kept_and_deleting_wins_none_back(self):
        self.scene.assignment.takes_allowed = 1
        self.scene.assignment.save()
        take = scenes.recorded(self.scene, hear=False)
        # One that waits to be heard counts already.
        with self.assertRaisesMessage(TakeRefused, "one take"):
            scenes.recorded(self.scene, hear=False, data=silence())
        analyse_take(take_id=take.pk)
        analyse_take(take_id=take.pk)
        self.assertEqual(self.scene.task.takes_spent, 1)
        delete_take(student=self.student, take=Take.objects.get(pk=take.pk))
        with self.assertRaisesMessage(TakeRefused, "one take"):
            scenes.recorded(self.scene, hear=False, data=silence())

    def test_what_cannot_be_read_or_judged_uses_no_take_up(self):
        self.scene.assignment.takes_allowed = 1
        self.scene.assignment.save()
        for data in (b"no sound at all", silence()):
            take = scenes.recorded(self.scene, data=data)
            self.assertEqual((take.state, self.scene.task.takes_spent), (TakeState.UNUSABLE, 0))
        # Deleting one before it was heard costs nothing either.
        delete_take(student=self.student, take=scenes.recorded(self.scene, hear=False))
        self.assertEqual(scenes.recorded(self.scene).state, TakeState.ANALYSED)

    def test_listen_first_then_submit_and_twice_is_once(self):
        take = scenes.recorded(self.scene)
        with self.assertRaisesMessage(TakeRefused, "Listen"):
            submit_take(take=take)
        review_own_take(take=take, marks=[OwnMark(category="rhythm", verdict="mend", bar="6", text="limps")], work_on="bar 6")
        take = Take.objects.get(pk=take.pk)
        self.assertEqual(submit_take(take=take), submit_take(take=take))
        self.assertEqual(self.scene.task.state, TaskState.HANDED_IN)
        # What is recorded from now on is practice: the task stays handed in, and nothing else can be sent.
        practice = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        self.assertEqual(self.scene.task.state, TaskState.HANDED_IN)
        review_own_take(take=practice, marks=[], work_on="")
        with self.assertRaisesMessage(TakeRefused, "already with your teacher"):
            submit_take(take=Take.objects.get(pk=practice.pk))
        with self.assertRaisesMessage(TakeRefused, "stay as they were"):
            review_own_take(take=Take.objects.get(pk=take.pk), marks=[], work_on="other")

    def test_what_was_heard_stays_closed_until_the_student_has_listened(self):
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        url = reverse("stand:take", args=[take.pk])
        self.assertNotContains(self.client.get(url), "G is played")
        self.client.post(reverse("stand:mark", args=[take.pk]), {"verdict-notes": "good", "work_on": "tone"})
        self.assertContains(self.client.get(url), "G is played")

    def test_a_teacher_sees_no_take_before_it_is_submitted(self):
        take = scenes.recorded(self.scene)
        self.assertFalse(Take.objects.visible_to(self.scene.teacher).filter(pk=take.pk).exists())

    def test_deleting_removes_the_recording_for_good(self):
        take = scenes.recorded(self.scene)
        original, playback = (Path(settings.MEDIA_ROOT) / name for name in (take.original.name, take.playback.name))
        self.assertTrue(original.exists() and playback.exists())
        with self.captureOnCommitCallbacks(execute=True):
            delete_take(student=self.student, take=take)
        self.assertFalse(original.exists() or playback.exists())
        self.assertEqual(self.scene.task.state, TaskState.OPEN)


class UploadTests(TakeTestCase):
    def begin(self, data: bytes, clicks: bytes = b"") -> str:
        coded = base64.b64encode
        metadata = f"filename {coded(b'take.wav').decode()},task {coded(str(self.scene.task.pk).encode()).decode()}"
        metadata += f",clicks {coded(clicks).decode()}"
        response = self.client.post(reverse("takes:uploads"), headers={"Upload-Length": str(len(data)), "Upload-Metadata": metadata})
        self.assertEqual(response.status_code, 201, response.content)
        return response["Location"]

    def piece(self, url: str, offset: int, body: bytes):
        return self.client.patch(url, body, content_type="application/offset+octet-stream", headers={"Upload-Offset": str(offset)})

    def test_an_interrupted_upload_goes_on_and_is_not_seen_before_its_end(self):
        data = wav()
        url = self.begin(data)
        self.assertEqual(self.piece(url, 0, data[:1000]).status_code, 204)
        self.assertEqual(self.client.head(url)["Upload-Offset"], "1000")
        self.assertEqual(Take.objects.count(), 0)
        self.assertEqual(self.piece(url, 500, data[500:]).status_code, 409)
        response = self.piece(url, 1000, data[1000:])
        take = Take.objects.get()
        self.assertEqual(json.loads(response["Upload-Result"]), {"take": take.pk, "sha256": take.sha256})
        self.assertEqual(take.sha256, hashlib.sha256(data).hexdigest())
        self.assertEqual(self.piece(url, len(data), b"more").status_code, 204)
        self.assertEqual(Take.objects.count(), 1)

    def test_the_recorder_s_clicks_are_frozen_with_the_take_and_nonsense_is_not(self):
        for seed, clicks, kept in ((3, b"0.61 1.26 1.91", [0.61, 1.26, 1.91]), (4, b"2 1", []), (5, b"soon", [])):
            data = wav(seed=seed)
            self.piece(self.begin(data, clicks), 0, data)
            take = Take.objects.get(sha256=hashlib.sha256(data).hexdigest())
            self.assertEqual(take.basis["targets"]["clicks_s"], kept)

    def test_too_large_empty_or_longer_than_announced_is_refused(self):
        for length, words in ((MAX_FILE_BYTES + 1, "1 GiB"), (0, "empty")):
            with self.assertRaisesMessage(TakeRefused, words):
                begin_upload(student=self.student, task=self.scene.task, filename="a", length=length)
        url = self.begin(b"12345")
        self.assertEqual(self.piece(url, 0, b"1234567").status_code, 422)

    def test_uploads_that_never_end_are_removed_after_a_week(self):
        upload = begin_upload(student=self.student, task=self.scene.task, filename="a", length=9)
        self.assertEqual(discard_stale_uploads(), 0)
        Upload.objects.update(created_at="2026-01-01T00:00:00Z")
        self.assertEqual(discard_stale_uploads(), 1)
        self.assertFalse(upload.path.exists())

    def test_a_plain_form_works_without_scripts(self):
        file = io.BytesIO(wav())
        file.name = "take.wav"
        response = self.client.post(reverse("stand:upload_file", args=[self.scene.task.pk]), {"recording": file})
        self.assertRedirects(response, reverse("stand:take", args=[Take.objects.get().pk]))


class PlaybackTests(TakeTestCase):
    def test_players_can_seek(self):
        take = scenes.recorded(self.scene)
        url = reverse("takes:sound", args=[take.pk])
        size = take.playback.size
        cases = {"bytes=0-9": (206, 10), "bytes=10-": (206, size - 10), "bytes=-5": (206, 5), f"bytes={size}-": (416, 0), "": (200, size)}
        for value, (status, length) in cases.items():
            response = self.client.get(url, headers={"Range": value} if value else {})
            self.assertEqual(response.status_code, status, value)
            if status != 416:
                self.assertEqual(len(b"".join(response.streaming_content)), length)
