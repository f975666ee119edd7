"""All that is kept of a person as one file: whole, theirs alone, made once, and gone after some days."""

from __future__ import annotations

import hashlib
import io
import json
import pkgutil
import zipfile
from datetime import timedelta
from importlib import import_module
from types import SimpleNamespace
from unittest import mock

from django.core.files.base import ContentFile
from django.core.files.storage import default_storage
from django.test import SimpleTestCase, TestCase
from django.urls import reverse
from django.utils import timezone
from procrastinate.contrib.django import app

import didactor
from didactor.archive.asking import ask
from didactor.archive.jobs import make_copy
from didactor.archive.models import PersonCopy
from didactor.archive.of_person import discard_old_copies, write_copy
from didactor.people.services import add_guardian, make_card
from didactor.practice.models import Attempt
from didactor.progress.services import erase_student
from didactor.review.services import Draft, add_remark, open_review, send
from didactor.takes.models import Take
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import wav

BACKEND = "didactor.people.backends.PasswordBackend"


class CopyTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.person = cls.scene.ylva.student
        cls.take = scenes.recorded(cls.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        cls.review = open_review(submission=submit_take(take=cls.take), teacher=cls.scene.teacher)
        add_remark(review=cls.review, category="tone", text="A warm low register.", bar="7")
        cls.other = scenes.recorded_by(scenes.another(cls.scene, "Tove"), wav(seed=21))
        Attempt.objects.create(task=cls.scene.task, stone="1-2", bars="1-2", tempo=60).sound.save("a.mp4", ContentFile(b"sound"))
        make_card(cls.person)

    def opened(self) -> tuple[zipfile.ZipFile, dict[str, int]]:
        made = io.BytesIO()
        counts = write_copy(self.person, made)
        return zipfile.ZipFile(made), counts

    def lines(self, archive: zipfile.ZipFile, label: str) -> list[dict]:
        return [json.loads(line)["fields"] for line in archive.read(f"rows/{label}.jsonl").decode().splitlines()]

    def test_every_recording_and_row_of_theirs_and_nobody_else_s(self):
        send(review=self.review, draft=Draft(text="Well held.", decision="passed"))
        archive, counts = self.opened()
        take = Take.objects.get(pk=self.take.pk)
        self.assertEqual(archive.read(f"files/take-{take.pk}-original-take.wav"), default_storage.open(take.original.name).read())
        self.assertEqual([row["sha256"] for row in self.lines(archive, "takes.Take")], [take.sha256])
        self.assertFalse([name for name in archive.namelist() if name.startswith(f"files/take-{self.other.pk}-")])
        self.assertEqual([row["text"] for row in self.lines(archive, "review.Review")], ["Well held."])
        self.assertEqual([row["text"] for row in self.lines(archive, "review.Mark")], ["A warm low register."], "kept ones alone")
        self.assertEqual((counts["practice.Attempt"], counts["files"]), (1, len([n for n in archive.namelist() if n.startswith("files/")])))
        contents = json.loads(archive.read("contents.json"))
        self.assertEqual(contents["files"][take.original.name], f"files/take-{take.pk}-original-take.wav")
        for name, digest in contents["sha256"].items():
            self.assertEqual(hashlib.sha256(archive.read(name)).hexdigest(), digest)
        self.assertEqual(contents["missing"], [])
        self.assertIn("All that Didactor keeps of Ylva", archive.read("read_me.txt").decode())

    def test_neither_drafts_nor_what_signs_somebody_in(self):
        archive, counts = self.opened()
        self.assertEqual((counts["review.Review"], counts["review.Mark"]), (0, 0))
        everything = b"".join(archive.read(name) for name in archive.namelist() if not name.startswith("files/"))
        for secret in (self.person.password, self.person.card.code_hash, "A warm low register."):
            self.assertNotIn(secret.encode(), everything)
        self.assertEqual(json.loads(archive.read("person.json"))["name"], "Ylva")

    def test_a_file_that_is_gone_is_named(self):
        with mock.patch.object(default_storage._wrapped, "exists", lambda name: name != self.take.original.name):
            archive, _ = self.opened()
        self.assertEqual(json.loads(archive.read("contents.json"))["missing"], [self.take.original.name])

    def test_asked_for_made_in_the_background_fetched_and_made_anew(self):
        self.client.force_login(self.person, backend=BACKEND)
        url, file = reverse("copy_of", args=[self.person.pk]), reverse("archive:copy_file", args=[self.person.pk])
        self.assertContains(self.client.get(url), "Make the file")
        self.assertEqual(self.client.get(file).status_code, 404)
        self.client.post(url)
        self.client.post(url)
        copy = PersonCopy.objects.get()
        self.assertContains(self.client.get(url), "is being made")
        self.assertContains(self.client.get(url, headers={"HX-Request": "true"}), 'hx-trigger="load delay:1s, every 30s"')
        make_copy(SimpleNamespace(job=None), copy_id=copy.pk)
        make_copy(SimpleNamespace(job=None), copy_id=copy.pk)
        self.assertContains(self.client.get(url), "Fetch it")
        fetched = self.client.get(file)
        self.assertEqual(fetched["Content-Type"], "application/zip")
        self.assertIn("attachment", fetched["Content-Disposition"])
        self.assertIsNone(zipfile.ZipFile(io.BytesIO(b"".join(fetched.streaming_content))).testzip())
        self.client.post(url)
        self.assertEqual(PersonCopy.objects.count(), 2)

    def test_a_store_without_room_is_tried_three_times_then_said(self):
        copy = ask(person=self.person, asked_by=self.person)
        self.client.force_login(self.person, backend=BACKEND)
        with mock.patch("didactor.archive.jobs.make", side_effect=OSError("no space left")):
            for attempts, shown in ((1, "is being made"), (2, "There was no room for it")):
                with self.assertRaises(OSError):
                    make_copy(SimpleNamespace(job=SimpleNamespace(attempts=attempts)), copy_id=copy.pk)
                self.assertContains(self.client.get(reverse("copy_of", args=[self.person.pk])), shown)
        self.assertTrue(ask(person=self.person, asked_by=self.person).is_being_made, "asked again")

    def test_it_lies_there_for_a_week(self):
        copy = ask(person=self.person, asked_by=self.person)
        make_copy(SimpleNamespace(job=None), copy_id=copy.pk)
        copy.refresh_from_db()
        self.assertEqual(discard_old_copies(), 0)
        PersonCopy.objects.update(asked_at=timezone.now() - timedelta(days=8))
        with self.captureOnCommitCallbacks(execute=True):
            self.assertEqual(discard_old_copies(), 1)
        self.assertFalse(default_storage.exists(copy.file.name))

    def test_one_that_was_broken_off_keeps_nobody_from_asking_again(self):
        ask(person=self.person, asked_by=self.person)
        PersonCopy.objects.update(asked_at=timezone.now() - timedelta(hours=2))
        self.client.force_login(self.person, backend=BACKEND)
        url = reverse("copy_of", args=[self.person.pk])
        self.assertContains(self.client.get(url), "Make the file")
        self.client.post(url)
        self.assertContains(self.client.get(url), "is being made")
        self.assertEqual(sorted(PersonCopy.objects.values_list("trouble", flat=True)), ["", "It was broken off. Ask again."])

    def test_who_is_erased_takes_the_copy_along(self):
        copy = ask(person=self.person, asked_by=self.person)
        make_copy(SimpleNamespace(job=None), copy_id=copy.pk)
        name = PersonCopy.objects.get().file.name
        with self.captureOnCommitCallbacks(execute=True):
            erase_student(self.person)
        self.assertFalse(default_storage.exists(name))

    def test_the_guardian_and_the_teacher_of_a_child_and_no_other(self):
        guardian, far = add_guardian(student=self.person, name="Sela"), add_guardian(student=self.scene.ossian.student, name="Far")
        url = reverse("copy_of", args=[self.person.pk])
        colleague = scenes.teacher("Inner light", "wilma")
        for who, status in ((guardian, 200), (self.scene.teacher, 200), (far, 404), (self.scene.ossian.student, 404), (colleague, 404)):
            self.client.force_login(who, backend=BACKEND)
            self.assertEqual(self.client.get(url).status_code, status, who)
            self.assertEqual(self.client.post(url).status_code, 302 if status == 200 else 404)
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        self.assertEqual(self.client.get(reverse("copy_of", args=[guardian.pk])).status_code, 404)
        self.assertEqual(self.client.get(reverse("copy_of", args=[self.scene.teacher.pk])).status_code, 200)


class TaskTests(SimpleTestCase):
    def test_every_task_lies_where_workers_look_for_it(self):
        for module in pkgutil.walk_packages(didactor.__path__, "didactor."):
            if module.name.split(".")[1] not in ("core", "demo") and ".migrations" not in module.name and ".management" not in module.name:
                import_module(module.name)
        own = [name for name in app.tasks if name.startswith("didactor.")]
        self.assertGreater(len(own), 12)
        self.assertEqual([name for name in own if name.split(".")[-2] != "jobs"], [])
