"""What a teacher says or films on the spot: with a remark, or to a group for a week."""

from __future__ import annotations

from datetime import timedelta

import numpy as np
from django.core.files.storage import default_storage
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import WeekNote
from didactor.demo.film import film_of
from didactor.people.models import Group
from didactor.progress.services import erase_handed_in
from didactor.review.models import Mark
from didactor.review.services import Draft, decide_mark, open_review, send
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import tone


def sound(body: bytes | None = None, name: str = "said.webm") -> SimpleUploadedFile:
    return SimpleUploadedFile(name, tone(2.0) if body is None else body)


class RemarkTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        self.take = scenes.recorded(self.scene)
        submit_take(take=self.take)
        self.review = open_review(submission=self.take.submission, teacher=self.scene.teacher)
        self.client.force_login(self.scene.teacher)

    def add(self, **sent: object) -> Mark | None:
        self.client.post(reverse("review:add_remark", args=[self.take.submission.pk]), sent)
        return self.review.marks.filter(origin="teacher").order_by("-pk").first()

    def hears(self, mark: Mark, person: object) -> int:
        self.client.force_login(person)
        return self.client.get(reverse("review:said", args=[mark.pk])).status_code

    def test_said_without_words_and_heard_by_the_student_once_it_is_sent(self):
        mark = self.add(said=sound(), bar="6")
        self.assertEqual((mark.text, mark.bar, mark.said_is_film), ("A remark, said.", "6", False))
        people = (self.scene.ylva.student, self.scene.ossian.student, self.scene.teacher)
        self.assertEqual([self.hears(mark, person) for person in people], [404, 404, 200])
        send(review=self.review, draft=Draft(text="", decision="once_more", decision_tempo=None))
        self.assertEqual([self.hears(mark, person) for person in people], [200, 404, 200])
        self.client.force_login(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("take", args=[self.take.pk]), follow=True), reverse("review:said", args=[mark.pk]))

    def test_what_was_dropped_is_not_heard(self):
        mark = self.add(said=sound(), text="Listen to this.")
        decide_mark(mark=mark, standing="dropped")
        send(review=self.review, draft=Draft(text="", decision="once_more", decision_tempo=None))
        self.assertEqual(self.hears(mark, self.scene.ylva.student), 404)

    def test_a_film_stays_one(self):
        body = film_of(np.zeros(44_100, dtype=np.float32), [0.0, 0.5])
        mark = self.add(said=sound(body))
        self.assertEqual((mark.text, mark.said_is_film), ("A remark, filmed.", True))
        answer = self.client.get(reverse("review:said", args=[mark.pk]))
        self.assertEqual(answer.headers["Content-Type"], "video/webm")

    def test_no_recording_is_refused_with_words_and_nothing_is_added(self):
        url = reverse("review:add_remark", args=[self.take.submission.pk])
        for body in (b"no sound at all" * 20, b""):
            answer = self.client.post(url, {"text": "Listen.", "said": sound(body)}, headers={"HX-Request": "true"})
            self.assertContains(answer, "trouble-box")
            self.assertContains(answer, 'value="Listen."')
        self.assertFalse(self.review.marks.exclude(said="").exists())
        self.assertContains(self.client.post(url, {"text": " "}, headers={"HX-Request": "true"}), "or say them")

    def test_it_is_gone_with_its_take(self):
        name = self.add(said=sound()).said.name
        self.assertTrue(default_storage.exists(name))
        with self.captureOnCommitCallbacks(execute=True):
            erase_handed_in(self.take)
        self.assertFalse(default_storage.exists(name))

    def test_a_pin_to_a_note_takes_its_beat_and_one_hand_is_not_told(self):
        note = next(n for n in self.take.heard.notes if (n.bar, n.beat) == ("6", 2.0))
        mark = self.add(text="Lower.", bar="6", note_id=note.id)
        self.assertEqual((mark.beat, mark.hand, mark.with_its_place), (2.0, "", "Bar 6: Lower."))
        self.assertEqual(self.add(text="Typed.", bar="6", beat="2", note_id=note.id).beat, 1.0)
        self.assertEqual(self.add(text="No such note.", bar="6", note_id="gone").beat, None)
        mark.hand = "left"
        self.assertEqual(mark.with_its_place, "Bar 6, left hand: Lower.")
        mark.text = "The left hand is late."
        self.assertEqual(mark.with_its_place, "Bar 6: The left hand is late.")


class WeekNoteTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build()
        self.group = Group.objects.create(studio=self.scene.teacher.studio, name="Lower deck")
        type(self.scene.ylva).objects.filter(pk=self.scene.ylva.pk).update(group=self.group)
        self.client.force_login(self.scene.teacher)

    def write(self, **sent: object) -> WeekNote | None:
        day = timezone.localdate().isoformat()
        with self.captureOnCommitCallbacks(execute=True):
            self.answer = self.client.post(reverse("assignments:week_note"), {"group": self.group.pk, "week": day, **sent})
        return WeekNote.objects.first()

    def test_said_to_a_group_and_heard_by_it_alone(self):
        note = self.write(said=sound())
        url = reverse("assignments:note_said", args=[note.pk])
        for person, status in ((self.scene.ylva.student, 200), (self.scene.ossian.student, 404)):
            self.client.force_login(person)
            self.assertEqual(self.client.get(url).status_code, status)
        self.client.force_login(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("home"), follow=True), url)

    def test_written_again_the_sound_is_gone_and_with_nothing_all_of_it(self):
        name = self.write(said=sound(), text="This week").said.name
        note = self.write(text="This week, in words")
        self.assertEqual((note.said.name, default_storage.exists(name)), ("", False))
        self.assertIsNone(self.write(text=" "))

    def test_what_is_no_recording_changes_nothing(self):
        self.write(text="Breathe low.")
        self.assertEqual(self.write(said=sound(b"nothing" * 40)).text, "Breathe low.")
        self.assertEqual(self.answer.status_code, 200)
        self.assertEqual(WeekNote.objects.get().monday, timezone.localdate() - timedelta(days=timezone.localdate().weekday()))
