"""Every address of the site, for everybody who should not be there."""

from __future__ import annotations

import tempfile
import uuid
from datetime import date, timedelta
from pathlib import Path

from django.core.files.base import ContentFile
from django.test import TestCase
from django.urls import get_resolver, reverse
from django.utils import timezone

from didactor.archive.models import PersonCopy
from didactor.assignments.models import Series, Slot, WeekNote
from didactor.library.desk import notes_of
from didactor.library.imports import begin_import
from didactor.library.models import ModelSound, Reference, ReferenceSound
from didactor.people.pictures import give, studio_code
from didactor.people.services import record_consent
from didactor.practice.models import Attempt
from didactor.review.models import Mark
from didactor.review.services import open_review
from didactor.takes.models import Together
from didactor.takes.services import begin_upload, submit_take
from tests import scene as scenes
from tests.apps.addresses import names, of_assignment, of_passage, of_piece, of_student, of_submission, of_take, of_task
from tests.apps.who_may import EXPECTED, PUBLIC

CHANGES_THE_SCENE = (
    "stand:delete",
    "review:send",
    "library:delete_reference",
    "people:withdraw_consent",
    "people:leave",
    "people:group_cards",
    "assignments:withdraw",
    "assignments:withdraw_task",
)


class EveryAddressScene(scenes.OwnFolders):
    """One of everything, and everybody."""

    def setUp(self) -> None:
        # What a demo left in the state folder is nobody's here.
        self.enterContext(self.settings(STATE=Path(self.enterContext(tempfile.TemporaryDirectory()))))

    @classmethod
    def setUpTestData(cls):
        cls.scene = scene = scenes.build(listen_first=False)
        cls.take = scenes.recorded(scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        cls.attempt = Attempt.objects.create(task=scene.task, stone="0-2", bars="0-2", tempo=92, rate=32_000)
        cls.attempt.sound.save("x.mp4", ContentFile(b"x" * 100))
        cls.take.picture.save("x.webm", ContentFile(b"x" * 100))
        cls.upload = begin_upload(student=scene.ylva.student, task=scene.task, filename="b.wav", length=10)
        scene.task.reply_sound.save("x.mp4", ContentFile(b"x" * 100))
        scene.passage.revision.piece.photo.save("x.png", ContentFile(b"\x89PNG\r\n\x1a\n" + bytes(20)))
        cls.batch = begin_import(teacher=scene.teacher, files=[])
        scene.assignment.instructions = "Slowly, with the left hand alone."
        scene.assignment.save()
        cls.note = WeekNote.objects.create(
            studio=scene.teacher.studio, monday=date(2026, 9, 7), written_by=scene.teacher, said=ContentFile(b"x" * 100, name="x.m4a")
        )
        begin = timezone.now() + timedelta(days=1)
        cls.slots = [Slot.objects.create(teacher=scene.teacher, starts_at=begin + timedelta(hours=k), minutes=15) for k in (0, 1)]
        record_consent(student=scene.ylva.student, given_by="Ylva", recorded_by=scene.teacher, kind="together")
        cls.together = []
        for _ in range(2):
            made = Together.objects.create(assignment=scene.assignment, made_by=scene.teacher, tempo=92.0)
            made.sound.save("x.mp3", ContentFile(b"x" * 100))
            made.takes.set([cls.take])
            cls.together.append(made)
        cls.reference = Reference.objects.create(
            passage=scene.passage, title="As I play it", kind="sound", file=ContentFile(b"x" * 100, name="x.mp4"), created_by=scene.teacher
        )
        cls.reference_sound = ReferenceSound.objects.create(
            reference=cls.reference, tempo_qpm=60, sound=ContentFile(b"x" * 100, name="y.mp3")
        )
        cls.series = Series.objects.create(studio=scene.teacher.studio, title="Scales")
        cls.submission = submit_take(take=cls.take)
        cls.review = open_review(submission=cls.submission, teacher=scene.teacher)
        give(person=scene.ylva.student)
        code = studio_code(scene.teacher.studio).replace("-", "")
        PersonCopy.objects.create(person=scene.ylva.student, asked_by=scene.teacher).file.save("a.zip", ContentFile(b"x"))
        cls.said = Mark.objects.create(review=cls.review, origin="teacher", standing="kept", said=ContentFile(b"x" * 100, name="x.m4a"))
        cls.people = {
            "teacher": scene.teacher,
            "ylva": scene.ylva.student,
            "ossian": scene.ossian.student,
            "guardian": scene.guardian,
            "stranger": scenes.teacher("Another studio", "stranger"),
        }
        sound = ModelSound.objects.filter(passage=scene.task.passage).first()
        sound.sound.save("x.mp3", ContentFile(b"x" * 100))
        cls.arguments = {
            **of_piece(scene.passage.revision.piece),
            **of_passage(scene.passage),
            **of_assignment(scene.assignment),
            **of_task(scene.task),
            **of_student(scene.ylva),
            **of_take(cls.take),
            **of_submission(cls.submission),
            "words": ["de", "0"],
            "people:open_card": ["abc"],
            "people:join": ["abc"],
            "people:choose_password": ["abc", "abc"],
            "people:pictures_of": [code],
            "people:pictures_tap": [code, scene.ylva.student_id],
            "library:model_sound": [sound.pk],
            "library:import": [cls.batch.pk],
            "library:import_fragment": [cls.batch.pk],
            "library:exercise": ["scale"],
            "library:exercise_fragment": ["scale"],
            "library:reference": [cls.reference.pk],
            "library:reference_sound": [cls.reference_sound.pk],
            "library:delete_reference": [cls.reference.pk],
            "library:write": ["melody"],
            "library:write_fragment": ["melody"],
            "assignments:series": [cls.series.pk],
            "assignments:series_again": [cls.series.pk],
            "practice:piece": [cls.attempt.pk],
            "practice:sound": [cls.attempt.pk],
            "practice:drill": [scene.task.pk, "two_notes"],
            "takes:upload": [cls.upload.pk],
            "takes:download": [cls.take.pk, "figures"],
            "review:said": [cls.said.pk],
            "review:decide_mark": [cls.submission.pk, cls.review.marks.first().pk],
            "takes:together": [cls.together[0].pk],
            "progress:drop_together": [cls.together[1].pk],
            "assignments:withdraw_slot": [cls.slots[0].pk],
            "assignments:choose_slot": [cls.slots[1].pk],
            "assignments:note_said": [cls.note.pk],
            "letters:stop": ["x"],
        }


class EveryAddressTests(EveryAddressScene, TestCase):
    def answer(self, name: str) -> int:
        """Status of the most natural request to an address; 405 counts as let in."""
        url = reverse(name, args=self.arguments.get(name, []))
        if name == "takes:upload":
            return self.client.head(url).status_code
        if name == "takes:uploads":
            headers = {
                "Upload-Length": "5",
                "Upload-Metadata": "task " + __import__("base64").b64encode(str(self.scene.task.pk).encode()).decode(),
            }
            return self.client.post(url, headers=headers).status_code
        if name in ("assign", "assignments:parts_fragment"):
            url += f"?passage={self.scene.passage.pk}"
        if name == "library:passage_note":
            url += "?note=" + next(iter(notes_of(self.scene.passage)))
        posted = name.split(":")[-1] in (
            "new_card",
            "leave",
            "withdraw_consent",
            "upload_file",
            "mark",
            "submit",
            "add_remark",
            "at_once",
            "make_together",
            "drop_together",
            "agree",
            "hear_live",
            "live_recording",
            "drop_live",
            "withdraw_slot",
            "choose_slot",
            "series_again",
            "keep_all",
            "decide_mark",
            "save_draft",
            "send",
            "passage_segments",
            "passage_pins",
            "passage_model",
            "passage_accompaniment",
            "add_reference",
            "delete_reference",
            "decide_answer",
            "decide_words",
            "withdraw",
            "withdraw_task",
            "give",
            "open_sealed",
            "found",
            "through",
            "spoken",
            "tuning",
            "correct_bar",
            "new_version",
            "put_away",
            "tick",
            "answer",
            "sound_check",
            "begin",
            "touched",
            "by_hand",
            "take_back",
            "remedy",
            "habit",
            "model",
            "piece",
            "new_line",
            "sounds",
        )
        return (self.client.post(url) if posted else self.client.get(url)).status_code

    def test_the_table_names_every_address(self):
        self.assertEqual(set(names(get_resolver())), set(EXPECTED) | PUBLIC)

    def test_each_person_sees_what_the_table_says(self):
        for who, person in self.people.items():
            for name, allowed in EXPECTED.items():
                # Anew each time: a new card ends the sessions of the old one.
                person.refresh_from_db()
                self.client.force_login(person, backend="didactor.people.backends.PasswordBackend")
                with self.subTest(who=who, name=name):
                    if who in allowed and name in CHANGES_THE_SCENE:
                        continue  # would change the scene for the others; tested elsewhere
                    status = self.answer(name)
                    self.assertEqual(status == 404, who not in allowed, status)

    def test_nobody_is_sent_to_sign_in(self):
        for name in EXPECTED:
            with self.subTest(name=name):
                url = reverse(name, args=self.arguments.get(name, []))
                response = self.client.head(url) if name == "takes:upload" else self.client.get(url)
                self.assertEqual(response.status_code, 302)
                self.assertIn("/sign-in/", response["Location"])

    def test_what_changes_something_is_not_done_by_following_a_link(self):
        self.client.force_login(self.people["teacher"], backend="didactor.people.backends.PasswordBackend")
        for name in (
            "people:leave",
            "people:new_card",
            "people:withdraw_consent",
            "people:group_cards",
            "people:performance",
            "review:send",
            "review:decide_words",
        ):
            with self.subTest(name=name):
                self.assertEqual(self.client.get(reverse(name, args=self.arguments.get(name, []))).status_code, 405)

    def test_an_upload_of_somebody_else_is_not_there(self):
        self.client.force_login(self.people["ossian"], backend="didactor.people.backends.PasswordBackend")
        self.assertEqual(self.client.head(reverse("takes:upload", args=[uuid.uuid4()])).status_code, 404)

    def test_pages_forbid_foreign_and_inline_code(self):
        self.client.force_login(self.people["teacher"], backend="didactor.people.backends.PasswordBackend")
        for name in ("review:detail", "review:waiting", "assign", "library:piece"):
            url = reverse(name, args=self.arguments.get(name, []))
            response = self.client.get(f"{url}?passage={self.scene.passage.pk}")
            policy = response["Content-Security-Policy"]
            self.assertIn("script-src 'self';", policy + ";")
            self.assertNotIn("unsafe", policy)
            page = response.content.decode()
            self.assertNotRegex(page, r"<[^>]+ style=|<style|<script(?![^>]*(src=|application/json))|\son\w+=\"")
