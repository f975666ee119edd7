"""A child who does not read notes yet: colours and fingers on the score, spoken words, nothing asked."""

from __future__ import annotations

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse

from didactor.library.models import Pin, PinKind
from didactor.library.notation import read_part
from tests import scene as scenes
from tests.music import wav


class NotReadingYetTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(stage="first_reading", instructions="Play it slowly -v and sing along.")
        self.scene.ylva.reads_notes = False
        self.scene.ylva.save()
        studio = self.scene.teacher.studio
        studio.note_colours, studio.note_names = {"E": "red", "B": "blue"}, {"E": "Owl"}
        studio.save()
        self.client.force_login(self.scene.ylva.student)

    def play(self):
        return self.client.get(reverse("stand:play", args=[self.scene.task.pk]))

    def test_heads_have_the_teachers_colours_and_names_stand_under_them(self):
        page = self.play()
        drawing = page.context["drawings"]["handheld"]
        passage = self.scene.task.passage
        notes = read_part(passage.revision_id, passage.part).notes
        self.assertEqual(drawing.count("tone-red"), sum(n.step == "E" for n in notes))
        self.assertIn("Owl", drawing)
        self.assertNotIn("tone-green", drawing)
        self.assertContains(page, "for the grown-up")

    def test_pinned_fingers_are_drawn(self):
        passage = self.scene.task.passage
        first = read_part(passage.revision_id, passage.part).notes[0]
        Pin.objects.create(passage=passage.root, kind=PinKind.FINGERING, note_id=first.id, bar="0", text="T12", instrument="")
        self.assertIn("T12", self.play().context["drawings"]["stand"])

    def test_who_reads_sees_plain_notes(self):
        self.scene.ylva.reads_notes = True
        self.scene.ylva.save()
        self.assertNotContains(self.play(), "tone-red")
        self.assertNotContains(self.play(), "for the grown-up")

    def test_what_to_do_is_said_by_the_model_or_by_the_teacher(self):
        url = reverse("stand:spoken", args=[self.scene.task.pk])
        said = self.client.get(url)
        self.assertEqual((said["Content-Type"], said.content[:4]), ("audio/wav", b"RIFF"))
        self.client.force_login(self.scene.teacher)
        keep = reverse("assignments:spoken", args=[self.scene.assignment.pk])
        self.client.post(keep, {"file": SimpleUploadedFile("x.txt", b"no sound")})
        self.scene.assignment.refresh_from_db()
        self.assertFalse(self.scene.assignment.spoken)
        with self.settings(FILE_UPLOAD_HANDLERS=["django.core.files.uploadhandler.TemporaryFileUploadHandler"]):
            self.client.post(keep, {"file": SimpleUploadedFile("me.wav", wav())})
        self.client.force_login(self.scene.ylva.student)
        self.assertEqual(self.client.get(url)["Content-Type"], "audio/mp4")
        self.client.force_login(self.scene.teacher)
        self.client.post(keep)
        self.client.force_login(self.scene.ylva.student)
        self.assertEqual(self.client.get(url)["Content-Type"], "audio/wav")

    def test_where_nothing_is_to_be_said_there_is_nothing_to_hear(self):
        self.scene.assignment.instructions = " "
        self.scene.assignment.save()
        self.assertEqual(self.client.get(reverse("stand:spoken", args=[self.scene.task.pk])).status_code, 404)

    def test_a_teacher_chooses_the_colours_by_letter(self):
        self.client.force_login(self.scene.teacher)
        self.client.post(reverse("people:note_names"), {"tone_C": "green", "tone_D": "nonsense"})
        self.scene.teacher.studio.refresh_from_db()
        self.assertEqual(self.scene.teacher.studio.note_colours, {"E": "red", "B": "blue"})
        self.client.post(reverse("people:note_names"), {"tone_C": "green", "E": "Owl"})
        self.scene.teacher.studio.refresh_from_db()
        self.assertEqual(self.scene.teacher.studio.note_colours, {"C": "green"})
