"""What is deleted is gone: rows, files, copies, drawings; and what is left over by accident goes by night."""

from __future__ import annotations

import io
import os
import time
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.cache import cache
from django.test import TestCase
from django.urls import reverse

from didactor.assignments.models import Task, TaskState
from didactor.people.models import Person, SignedIn, SignInCard
from didactor.people.services import make_card
from didactor.review.models import Review
from didactor.review.services import Draft, open_review, send
from didactor.takes import hearing
from didactor.takes.jobs import analyse_take
from didactor.takes.listening import heard_drawings, passage_of
from didactor.takes.models import Take, TakeState, Upload
from didactor.takes.services import (
    MOST_UNFINISHED,
    StorageFull,
    TakeRefused,
    append_to_upload,
    begin_upload,
    delete_take,
    submit_take,
)
from didactor.takes.upkeep import sweep_files
from tests import scene as scenes
from tests.music import silence, wav


def media() -> list[Path]:
    return [p for p in Path(settings.MEDIA_ROOT).rglob("*") if p.is_file()]


class ErasureTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)

    def sent(self) -> Take:
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        heard_drawings(passage_of(take), take.latest_analysis)
        send(review=open_review(submission=submit_take(take=take), teacher=self.scene.teacher), draft=Draft(decision="stay", text="Bar 6."))
        return take

    def drawn(self, take: Take) -> bool:
        return any(f"heard:{take.latest_analysis.pk}:" in key for key in cache._cache)

    def test_a_take_that_was_answered_is_erased_with_all_that_came_of_it(self):
        take = self.sent()
        files = {Path(settings.MEDIA_ROOT) / name for name in (take.original.name, take.playback.name)}
        self.assertTrue(files <= set(media()) and self.drawn(take))
        analysis = take.latest_analysis.pk
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        url = reverse("progress:erase_take", args=[take.pk])
        self.assertContains(self.client.get(url), "cannot be undone")
        with self.captureOnCommitCallbacks(execute=True):
            self.client.post(url)
        self.assertFalse(files & set(media()))
        self.assertFalse(any(f"heard:{analysis}:" in key for key in cache._cache))
        self.assertEqual((Take.objects.count(), Review.objects.count(), self.scene.task.state), (0, 0, TaskState.OPEN))

    def test_a_student_is_erased_after_the_name_was_written(self):
        take = self.sent()
        ylva = self.scene.ylva.student
        begin_upload(student=ylva, task=self.scene.task, filename="b.wav", length=10)
        code = make_card(ylva)
        self.client.post(reverse("people:sign_in"), {"card-code": code})
        self.assertEqual(SignedIn.objects.count(), 1)
        ours = self.client_class()
        ours.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        url = reverse("progress:erase_student", args=[ylva.pk])
        self.assertContains(ours.post(url, {"name": "somebody"}), "not the name", status_code=409)
        self.assertTrue(Person.objects.filter(pk=ylva.pk).exists())
        with self.captureOnCommitCallbacks(execute=True):
            ours.post(url, {"name": f" {ylva.name.upper()} "})
        for rows in (Person.objects.filter(pk=ylva.pk), Take.objects.all(), Task.objects.filter(enrolment__student_id=ylva.pk)):
            self.assertFalse(rows.exists())
        self.assertFalse(Upload.objects.exists() or SignInCard.objects.filter(person_id=ylva.pk).exists())
        self.assertFalse([p for p in media() if take.original.name in str(p) or take.playback.name in str(p)])
        self.assertEqual([p.name for p in Path(settings.UPLOAD_ROOT).iterdir()], [])
        self.assertEqual(SignedIn.objects.count(), 1, "only the teacher's")
        self.assertTrue(Person.objects.filter(pk=self.scene.guardian.pk).exists(), "who looks after somebody else stays")

    def test_a_recording_that_another_take_shares_stays(self):
        take = scenes.recorded(self.scene, hear=False, data=silence())
        other = Take.objects.get(pk=take.pk)
        other.pk, other.task, other.number = None, self.scene.other_task, 1
        other.save()
        with self.captureOnCommitCallbacks(execute=True):
            delete_take(student=self.scene.ylva.student, take=take)
        self.assertTrue((Path(settings.MEDIA_ROOT) / other.original.name).exists())

    def test_a_take_deleted_while_it_is_opened_leaves_nothing(self):
        before = set(media())
        take = scenes.recorded(self.scene, hear=False, data=wav({"kind": "missed", "bar": "6", "beat": 0.0}))
        opened = hearing.open_with_copy

        def deleted_meanwhile(source):
            found = opened(source)
            with self.captureOnCommitCallbacks(execute=True):
                delete_take(student=self.scene.ylva.student, take=take)
            return found

        with mock.patch("didactor.takes.hearing.open_with_copy", deleted_meanwhile):
            analyse_take(take_id=take.pk)
        self.assertEqual(set(media()) - before, set())

    def test_recordings_are_readable_by_the_service_alone(self):
        take = scenes.recorded(self.scene)
        for name in (take.original.name, take.playback.name):
            self.assertEqual((Path(settings.MEDIA_ROOT) / name).stat().st_mode & 0o077, 0)

    def test_by_night_files_without_rows_go_and_rows_without_files_are_told(self):
        sweep_files(older_than_s=-1.0)  # what other tests took back
        take = scenes.recorded(self.scene)
        old = time.time() - 9 * 24 * 3600
        stray, young, upload = (
            Path(settings.MEDIA_ROOT) / "takes/zz/stray",
            Path(settings.MEDIA_ROOT) / "playback/young.mp4",
            Path(settings.UPLOAD_ROOT) / "nobody",
        )
        for path in (stray, young, upload):
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x")
        for path in (stray, upload, *media()):
            if path != young:
                os.utime(path, (old, old))
        begun = begin_upload(student=self.scene.ylva.student, task=self.scene.task, filename="b.wav", length=10)
        os.utime(begun.path, (old, old))
        self.assertEqual(sweep_files(), (2, 0))
        self.assertFalse(stray.exists() or upload.exists())
        self.assertTrue(young.exists() and begun.path.exists() and (Path(settings.MEDIA_ROOT) / take.original.name).exists())
        (Path(settings.MEDIA_ROOT) / take.playback.name).unlink()
        with self.assertLogs("didactor.takes.upkeep", "ERROR") as log:
            self.assertEqual(sweep_files(), (0, 1))
        self.assertIn(take.playback.name, log.output[0])


class RoomTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def begin(self, length: int = 100) -> Upload:
        return begin_upload(student=self.scene.ylva.student, task=self.scene.task, filename="a.wav", length=length)

    def send(self, upload: Upload, data: bytes, offset: int = 0) -> Upload:
        return append_to_upload(upload_id=upload.pk, owner=self.scene.ylva.student, offset=offset, body=io.BytesIO(data))

    def test_what_is_begun_and_not_finished_is_bounded_and_the_oldest_gives_way(self):
        first = self.begin()
        for _ in range(MOST_UNFINISHED + 2):
            self.begin()
        self.assertEqual(Upload.objects.count(), MOST_UNFINISHED)
        self.assertFalse(Upload.objects.filter(pk=first.pk).exists() or first.path.exists())

    def test_a_student_has_so_much_room_and_no_more(self):
        scenes.recorded(self.scene, hear=False, data=silence())
        size = Take.objects.get().size
        with self.settings(STUDENT_QUOTA_BYTES=size + 150):
            self.begin(100)
            with self.assertRaisesMessage(TakeRefused, "no more room"):
                self.begin(100)

    def test_a_full_disk_is_said_and_what_came_before_is_kept(self):
        upload = self.begin()
        self.send(upload, b"x" * 40)
        with mock.patch("didactor.takes.services.shutil.copyfileobj", side_effect=OSError(28, "full")), self.assertRaises(StorageFull):
            self.send(upload, b"y" * 60, offset=40)
        self.assertEqual(Upload.objects.get().offset, 40)
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.PasswordBackend")
        with mock.patch("didactor.takes.services._receive", side_effect=StorageFull):
            answer = self.client.patch(
                reverse("takes:upload", args=[upload.pk]),
                b"y",
                content_type="application/offset+octet-stream",
                headers={"Upload-Offset": "40"},
            )
        self.assertEqual(answer.status_code, 507)
        self.assertIn("save the file", answer.content.decode())

    def test_a_connection_that_breaks_keeps_what_came(self):
        class Breaking(io.BytesIO):
            def read(self, size=-1):
                got = super().read(10)
                if not got:
                    raise OSError("gone")
                return got

        upload = self.begin()
        append_to_upload(upload_id=upload.pk, owner=self.scene.ylva.student, offset=0, body=Breaking(b"z" * 30))
        self.assertEqual(Upload.objects.get().offset, 30)
        with self.assertRaises(ValueError):
            self.send(upload, b"y", offset=29)
        with self.assertRaisesMessage(TakeRefused, "More arrived"):
            self.send(upload, b"y" * 71, offset=30)
        self.assertEqual((Upload.objects.get().offset, upload.path.stat().st_size), (30, 30))

    def test_the_last_piece_makes_it_a_take(self):
        data = wav()
        upload = self.begin(len(data))
        self.send(upload, data[:1000])
        with self.captureOnCommitCallbacks(execute=True):
            done = self.send(upload, data[1000:], offset=1000)
        self.assertEqual((done.take.state, done.take.size), (TakeState.STORED, len(data)))
        self.assertFalse(upload.path.exists())


class CardTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def sign_in(self, code: str, address: str = "192.0.2.7") -> int:
        return self.client_class(REMOTE_ADDR=address).post(reverse("people:sign_in"), {"card-code": code}).status_code

    def test_wrong_codes_lock_nobody_out(self):
        code = make_card(self.scene.ylva.student)
        with self.settings(AXES_ENABLED=True):
            for k in range(14):
                self.assertIn(self.sign_in(f"abcd-efgh-{k:04d}"), (200, 429))
            self.assertEqual(self.sign_in("abcd-efgh-0000"), 200)
            self.assertEqual(self.sign_in(code), 302)

    def test_a_password_is_guessed_ten_times_from_one_address_and_no_more(self):
        def guess(address: str, password: str = "wrong") -> int:
            data = {"teacher-username": self.scene.teacher.username, "teacher-password": password}
            return self.client_class(REMOTE_ADDR=address).post(reverse("people:sign_in"), data).status_code

        self.scene.teacher.set_password("lantern room log")
        self.scene.teacher.save()
        with self.settings(AXES_ENABLED=True):
            statuses = [guess("192.0.2.8") for _ in range(12)]
            self.assertEqual((statuses[0], statuses[-1]), (200, 429))
            self.assertEqual(guess("192.0.2.8", "lantern room log"), 429)
            self.assertEqual(guess("192.0.2.9", "lantern room log"), 302, "from elsewhere the right one still opens")

    def test_a_new_card_ends_the_sessions_of_the_old_one(self):
        browser = self.client_class()
        browser.post(reverse("people:sign_in"), {"card-code": make_card(self.scene.ylva.student)})
        self.assertEqual(browser.get(reverse("stand:index")).status_code, 200)
        make_card(Person.objects.get(pk=self.scene.ylva.student_id))
        self.assertEqual(browser.get(reverse("stand:index")).status_code, 302)

    def test_the_address_is_the_one_that_a_trusted_proxy_saw(self):
        from django.test import RequestFactory

        from didactor.web.addresses import client_address

        request = RequestFactory().get("/", REMOTE_ADDR="10.0.0.1", headers={"X-Forwarded-For": "6.6.6.6, 192.0.2.1, 192.0.2.2"})
        for proxies, address in ((0, "10.0.0.1"), (1, "192.0.2.2"), (2, "192.0.2.1"), (4, "10.0.0.1")):
            with self.settings(TRUSTED_PROXIES=proxies):
                self.assertEqual(client_address(request), address)
