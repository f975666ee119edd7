"""The record of a student: what comes back over takes."""

from __future__ import annotations

from django.test import TestCase
from django.urls import reverse

from didactor.progress.recurring import what_comes_back
from didactor.takes.models import Analysis, Submission, Take
from tests import scene as scenes
from tests.music import tone


class ComesBackTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        self.student = self.scene.ylva.student

    def handed_in(self, *causes: list[str]) -> Take:
        # The same sound twice would be the same take.
        take = scenes.recorded(self.scene, hear=False, data=tone(1.0 + 0.1 * Take.objects.count()))
        Analysis.objects.create(take=take, engine_version="x", parameters={}, result={}, summary={"causes": list(causes)}, seconds=1.0)
        Take.objects.filter(pk=take.pk).update(state="analysed")
        take.refresh_from_db()
        # As often as one wants: what a teacher's answer would come between is tested elsewhere.
        Submission.objects.create(take=take)
        return take

    def test_once_is_nothing_and_twice_comes_back_with_the_newest_words(self):
        self.handed_in(["trap", "The like bar was played", "In bar 6."], ["trap", "The like bar was played", "In bar 7."])
        self.assertEqual(what_comes_back(self.student), [])
        last = self.handed_in(["trap", "The like bar was played", "In bar 8."], ["after_rest", "After the rest", "Bar 4."])
        [found] = what_comes_back(self.student)
        self.assertEqual((found.title, found.takes, found.of, found.says), ("The like bar was played", 2, 2, "In bar 8."))
        self.assertEqual(found.last, last)
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        page = self.client.get(reverse("record", args=[self.student.pk]))
        self.assertContains(page, "in 2 of 2 takes. Last: In bar 8.")

    def test_what_was_not_handed_in_is_the_student_s_own(self):
        for _ in range(2):
            take = self.handed_in(["trap", "The like bar was played", "In bar 6."])
            take.submission.delete()
        self.assertEqual(what_comes_back(self.student), [])

    def test_causes_are_kept_when_a_take_is_heard(self):
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2})
        self.assertIsInstance(take.latest_analysis.summary["causes"], list)
