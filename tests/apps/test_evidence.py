"""What stands behind a remark: for the teacher, for the student once they have listened, and as files for other programs."""

from __future__ import annotations

import io
import json

import mido
from django.test import TestCase
from django.urls import reverse

from didactor.core.score.read.musicxml import prepare, read
from didactor.takes.services import OwnMark, review_own_take, submit_take
from tests import scene as scenes

SIGNED_IN = "didactor.people.backends.PasswordBackend"


class EvidenceTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        cls.take = scenes.recorded(cls.scene, {"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2})
        notes = cls.take.latest_analysis.result["notes"]
        cls.wrong = next(i for i, n in enumerate(notes) if n["status"] == "wrong_pitch")

    def get(self, person, name: str, *args: object, **headers: str):
        self.client.force_login(person, backend=SIGNED_IN)
        return self.client.get(reverse(f"takes:{name}", args=[self.take.pk, *args]), headers=headers)

    def listen(self) -> None:
        review_own_take(take=self.take, marks=[OwnMark(category="notes", verdict="mend")], work_on="bar 6")

    def test_a_student_listens_first_and_then_may_ask_why(self):
        student = self.scene.ylva.student
        self.assertEqual(self.get(student, "why", self.wrong).status_code, 404)
        self.assertEqual(self.get(student, "download", "figures").status_code, 404)
        self.listen()
        page = self.get(student, "why", self.wrong)
        self.assertContains(page, "svg")
        self.assertContains(page, "F sharp")
        fragment = self.get(student, "why", self.wrong, **{"HX-Request": "true"})
        self.assertNotContains(fragment, "<html")
        self.assertEqual(self.get(student, "why", 9999).status_code, 404)

    def test_the_place_is_heard_as_played_and_as_written(self):
        self.listen()
        for name in ("why_played", "why_written"):
            sound = self.get(self.scene.ylva.student, name, self.wrong)
            self.assertEqual((sound["Content-Type"], sound.content[:4]), ("audio/wav", b"RIFF"))

    def test_the_remark_links_to_its_evidence_by_category(self):
        self.listen()
        submission = submit_take(take=self.take)
        self.client.force_login(self.scene.teacher, backend=SIGNED_IN)
        page = self.client.get(reverse("review:detail", args=[submission.pk]))
        self.assertContains(page, reverse("takes:why", args=[self.take.pk, self.wrong]))
        self.assertContains(page, '<span class="origin heard" title="Notes">')

    def test_what_was_heard_as_files(self):
        self.listen()
        student = self.scene.ylva.student
        self.assertEqual(json.loads(self.get(student, "download", "figures").content)["notes"][self.wrong]["status"], "wrong_pitch")
        midi = mido.MidiFile(file=io.BytesIO(self.get(student, "download", "midi").content))
        self.assertGreater(midi.length, 10)
        score = self.get(student, "download", "score")
        self.assertIn("attachment", score["Content-Disposition"])
        self.assertTrue(read(prepare(score.content)).parts)
        self.assertIn(b"is played", score.content)
        self.assertEqual(self.get(student, "download", "anything").status_code, 404)
