"""What may be sent, handed in, deleted and taken away, by whom and in which state; what a file must be to come in."""

from __future__ import annotations

import io
import json
from types import SimpleNamespace
from unittest import mock

from django import forms
from django.contrib.auth.models import AnonymousUser
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import SimpleTestCase, TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Assignment, Task, TaskState
from didactor.core.errors import ScoreError
from didactor.library.forms import MOST_FILES, FilesField
from didactor.library.models import PieceRevision
from didactor.library.printed import MOST_PHOTO_BYTES, kind_of_picture
from didactor.library.services import _title_of, all_bars
from didactor.people.services import record_consent
from didactor.review.context import waiting
from didactor.review.services import Draft, ReviewRefused, open_review, save_draft, send
from didactor.takes.evidence import heard_as
from didactor.takes.models import SelfReview, Submission, Take, TakeState, Upload
from didactor.takes.permissions import Sight
from didactor.takes.services import MOST_UNFINISHED, TakeRefused, begin_upload, delete_take, erase_take, submit_take
from tests import scene as scenes


class SendingTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)

    def begin(self, length: int = 10) -> Upload:
        return begin_upload(student=self.scene.ylva.student, task=self.scene.task, filename="a.wav", length=length)

    def test_a_student_has_room_up_to_the_quota_what_is_on_its_way_included(self):
        with self.settings(STUDENT_QUOTA_BYTES=100):
            self.begin(60)
            with self.assertRaisesMessage(TakeRefused, "no more room"):
                self.begin(41)
            self.begin(40)
        take = scenes.recorded(self.scene, hear=False)
        Upload.objects.all().delete()
        with self.settings(STUDENT_QUOTA_BYTES=take.size + 10):
            self.begin(10)
            with self.assertRaisesMessage(TakeRefused, "no more room"):
                self.begin(1)

    def test_a_studio_has_room_up_to_its_quota_and_what_went_by_age_counts_no_more(self):
        take = scenes.recorded(self.scene, hear=False)
        another = scenes.another(self.scene, "Tove")
        with self.settings(STUDIO_QUOTA_BYTES=take.size + 30):
            self.begin(20)
            with self.assertRaisesMessage(TakeRefused, "your studio’s recordings"):
                begin_upload(student=another.student, task=another, filename="a.wav", length=11)
            begin_upload(student=another.student, task=another, filename="a.wav", length=10)
            with self.settings(STUDENT_QUOTA_BYTES=30):
                with self.assertRaisesMessage(TakeRefused, "your recordings"):
                    self.begin(10)
                Take.objects.filter(pk=take.pk).update(original="", playback="", recording_gone_at=timezone.now())
                self.begin(10)
        scenes.teacher("Elsewhere", "elsa")

    def test_of_unfinished_uploads_the_oldest_make_room(self):
        begun = [self.begin() for _ in range(MOST_UNFINISHED + 2)]
        kept = set(Upload.objects.values_list("pk", flat=True))
        self.assertEqual(kept, {upload.pk for upload in begun[-MOST_UNFINISHED:]})
        self.assertFalse(begun[0].path.exists())

    def test_somebody_else_s_quota_is_not_one_s_own(self):
        scenes.recorded(self.scene, hear=False)
        ossian = self.scene.ossian.student
        record_consent(student=ossian, given_by="Eva", recorded_by=self.scene.teacher)
        with self.settings(STUDENT_QUOTA_BYTES=20):
            begin_upload(student=ossian, task=self.scene.other_task, filename="a.wav", length=20)
            with self.assertRaisesMessage(TakeRefused, "no more room"):
                begin_upload(student=ossian, task=self.scene.other_task, filename="b.wav", length=1)


class HandingInTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.take = scenes.recorded(cls.scene)

    def refused(self, words: str) -> None:
        with self.assertRaisesMessage(TakeRefused, words):
            submit_take(take=Take.objects.get(pk=self.take.pk))
        self.assertFalse(Submission.objects.exists())

    def test_twice_is_once(self):
        first = submit_take(take=self.take)
        self.assertEqual(submit_take(take=self.take), first)
        self.assertEqual(Task.objects.get(pk=self.scene.task.pk).state, TaskState.HANDED_IN)

    def test_a_second_take_waits_until_the_first_is_answered(self):
        other = scenes.recorded(self.scene, {"kind": "missed", "bar": "5", "beat": 1.0})
        submit_take(take=self.take)
        for state, free in ((TaskState.HANDED_IN, False), (TaskState.PASSED, False), (TaskState.ANSWERED, True)):
            Task.objects.filter(pk=self.scene.task.pk).update(state=state)
            if free:
                self.assertEqual(submit_take(take=Take.objects.get(pk=other.pk)).take, other)
            else:
                with self.assertRaisesMessage(TakeRefused, "Another take"):
                    submit_take(take=Take.objects.get(pk=other.pk))

    def test_what_is_not_heard_yet_or_cannot_be_judged_stays_here(self):
        for state, words in (
            (TakeState.STORED, "still being heard"),
            (TakeState.ANALYSING, "still being heard"),
            (TakeState.UNUSABLE, "Nothing can be"),
        ):
            Take.objects.filter(pk=self.take.pk).update(state=state)
            self.refused(words)

    def test_listening_comes_first_where_that_is_asked(self):
        Assignment.objects.update(listen_first=True)
        self.refused("Listen to your take")
        review = SelfReview.objects.create(take=self.take)
        self.refused("Listen to your take")
        review.done_at = self.take.created_at
        review.save()
        self.assertTrue(submit_take(take=Take.objects.get(pk=self.take.pk)))

    def test_a_step_on_the_way_is_not_handed_in(self):
        Take.objects.filter(pk=self.take.pk).update(basis={**self.take.basis, "step": "clap"})
        self.refused("a step on the way")

    def test_a_take_is_deleted_until_it_was_handed_in_and_the_task_is_open_again(self):
        other = scenes.recorded(self.scene, {"kind": "missed", "bar": "5", "beat": 1.0}, hear=False)
        Task.objects.filter(pk=self.scene.task.pk).update(state=TaskState.IN_WORK)
        delete_take(take=other, student=self.scene.ylva.student)
        self.assertEqual(Task.objects.get(pk=self.scene.task.pk).state, TaskState.IN_WORK)
        submit_take(take=self.take)
        with self.assertRaisesMessage(TakeRefused, "cannot be deleted here"):
            delete_take(take=self.take, student=self.scene.ylva.student)
        erase_take(self.take)
        self.assertFalse(Take.objects.exists())

    def test_the_last_take_deleted_opens_the_task(self):
        Task.objects.filter(pk=self.scene.task.pk).update(state=TaskState.IN_WORK)
        delete_take(take=self.take, student=self.scene.ylva.student)
        self.assertEqual(Task.objects.get(pk=self.scene.task.pk).state, TaskState.OPEN)

    def test_files_of_what_was_heard_go_to_whose_sight_reaches_them(self):
        result = self.take.latest_analysis.heard
        full, marks = Sight(opened=True, result=result, figures=True), Sight(opened=True, result=result, figures=False)
        self.assertIn("notes", json.loads(heard_as(self.take, "figures", full).body))
        self.assertIsNone(heard_as(self.take, "figures", marks))
        self.assertTrue(heard_as(self.take, "midi", marks).body.startswith(b"MThd"))
        self.assertIn(b"<score-partwise", heard_as(self.take, "score", marks).body)
        for kind, sight in (("figures", Sight(opened=True, result=None, figures=True)), ("video", full)):
            self.assertIsNone(heard_as(self.take, kind, sight))


class WaitingTests(scenes.OwnFolders, TestCase):
    def test_what_was_handed_in_is_for_teachers_of_the_studio_alone(self):
        scene = scenes.build()
        Submission.objects.create(take=scenes.recorded(scene, hear=False))
        seen = {p: Submission.objects.visible_to(p).count() for p in (scene.teacher, scene.ylva.student, scene.guardian, AnonymousUser())}
        self.assertEqual(list(seen.values()), [1, 0, 0, 0])
        self.assertEqual(Submission.objects.visible_to(scenes.teacher("Another studio", "stranger")).count(), 0)

    def test_a_long_queue_says_that_there_is_more(self):
        scene = scenes.build()
        Submission.objects.create(take=scenes.recorded(scene, hear=False))
        Task.objects.update(state=TaskState.HANDED_IN)
        self.client.force_login(scene.teacher, backend="didactor.people.backends.PasswordBackend")
        for shown in (1, 0):
            with mock.patch("didactor.review.waiting.SHOWN", shown):
                page = self.client.get(reverse("review:waiting"))
            self.assertEqual((page.context["desk"].shown, page.context["desk"].total), (shown, 1))
            self.assertEqual("0 of 1 are shown" in page.content.decode(), shown == 0)

    def test_what_waits_is_counted_for_teachers_on_every_page(self):
        scene = scenes.build(listen_first=False)
        request = SimpleNamespace(user=scene.teacher)
        self.assertEqual(waiting(request), {"waiting_count": 0})
        submit_take(take=scenes.recorded(scene))
        self.assertEqual(waiting(request), {"waiting_count": 1})
        self.assertEqual(waiting(SimpleNamespace(user=scene.ylva.student)), {})
        self.assertEqual(waiting(SimpleNamespace()), {})

    def test_slower_needs_a_tempo_and_nothing_is_sent_without_a_decision(self):
        scene = scenes.build(listen_first=False)
        review = open_review(submission=submit_take(take=scenes.recorded(scene)), teacher=scene.teacher)
        for decision, tempo, words in (("", None, "Choose what happens"), ("slower", None, "at which tempo"), ("slower", 5000.0, "")):
            save_draft(review=review, draft=Draft(decision=decision, decision_tempo=tempo))
            with self.assertRaisesMessage(ReviewRefused, words):
                send(review=review)
        save_draft(review=review, draft=Draft(decision="slower", decision_tempo=60.0))
        send(review=review)
        scene.task.refresh_from_db()
        self.assertEqual(scene.task.tempo, 60.0)


class ComingInTests(SimpleTestCase):
    def photo(self, head: bytes, size: int | None = None) -> SimpleNamespace:
        body = io.BytesIO(head + bytes(40))
        return SimpleNamespace(size=len(head) + 40 if size is None else size, seek=body.seek, read=body.read)

    def test_a_photo_is_known_by_its_first_bytes_and_not_too_large(self):
        jpeg = b"\xff\xd8\xff\xe0"
        self.assertEqual(kind_of_picture(self.photo(jpeg)), "image/jpeg")
        self.assertEqual(kind_of_picture(self.photo(b"\x89PNG\r\n\x1a\n")), "image/png")
        self.assertEqual(kind_of_picture(self.photo(b"RIFF\x00\x00\x00\x00WEBP")), "image/webp")
        self.assertEqual(kind_of_picture(self.photo(jpeg, MOST_PHOTO_BYTES)), "image/jpeg")
        for photo in (self.photo(b"RIFF\x00\x00\x00\x00WAVE"), self.photo(b"<svg"), self.photo(b"GIF89a")):
            with self.assertRaisesMessage(ScoreError, "no photo"):
                kind_of_picture(photo)
        with self.assertRaisesMessage(ScoreError, "larger than 12 MB"):
            kind_of_picture(self.photo(jpeg, MOST_PHOTO_BYTES + 1))

    def test_many_files_come_as_a_list_and_one_alone_must_be_one(self):
        field = FilesField()
        files = [SimpleUploadedFile(f"{k}.xml", b"<x/>") for k in range(MOST_FILES + 1)]
        self.assertEqual(field.clean(files[:1]), files[:1])
        self.assertEqual(field.clean(files[:-1]), files[:-1])
        self.assertEqual(field.clean([SimpleUploadedFile("a.xml", b""), files[0]])[1], files[0])
        for bad in (None, [], [SimpleUploadedFile("a.xml", b"")]):
            with self.assertRaises(forms.ValidationError):
                field.clean(bad)
        with self.assertRaisesMessage(forms.ValidationError, f"At most {MOST_FILES}".replace("At", "Bring in at")):
            field.clean(files)

    def test_a_piece_without_a_title_is_named_by_its_file(self):
        names = {"ferry_bell.musicxml": "Ferry bell", "two-gulls.part.mid": "Two gulls.part", ".mid": "Untitled", "LOUD": "Loud"}
        self.assertEqual({name: _title_of(name) for name in names}, names)

    def test_the_whole_of_a_part_goes_from_its_first_to_its_last_bar(self):
        parts = [{"index": 1, "bars": [{"number": "0"}, {"number": "1"}, {"number": "X1"}]}, {"index": 2, "bars": []}]
        revision = PieceRevision(reading={"parts": parts})
        self.assertEqual([all_bars(revision, part) for part in (1, 2, 3)], ["0-X1", "", ""])
