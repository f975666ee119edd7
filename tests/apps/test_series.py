"""A series with an order: each opens when the one before it is passed."""

from __future__ import annotations

from datetime import timedelta

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Task
from didactor.assignments.services import assign
from didactor.takes.services import TakeRefused
from tests import scene as scenes
from tests.music import tone


class InOrderTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        fields = {"tempo": 92.0, "stage": "at_tempo", "band_percent": 5.0, "checklist": ["notes"], "series": "Scales"}
        cls.given = [
            assign(
                teacher=cls.scene.teacher,
                passage=cls.scene.passage,
                enrolments=[cls.scene.ylva],
                fields={**fields, "title": f"Scale {k}", "due_at": timezone.now() + timedelta(days=9 - k)},
            )
            for k in (3, 2, 1)
        ]
        cls.series = cls.given[0].series

    def setUp(self):
        self.tasks = [assignment.tasks.get() for assignment in self.given]
        self.in_order(True)
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.CardBackend")

    def in_order(self, value: bool) -> None:
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.client.post(reverse("assignments:series", args=[self.series.pk]), {"in_order": "on"} if value else {})

    def waits(self) -> list[str]:
        return [str(found.assignment) if (found := Task.objects.get(pk=task.pk).waits_for) else "" for task in self.tasks]

    def test_only_the_first_that_is_not_passed_is_open(self):
        self.assertEqual(self.waits(), ["", "Scale 3", "Scale 3"])
        Task.objects.filter(pk=self.tasks[0].pk).update(state="answered")
        self.assertEqual(self.waits(), ["", "Scale 3", "Scale 3"])
        Task.objects.filter(pk=self.tasks[0].pk).update(state="passed")
        self.assertEqual(self.waits(), ["", "", "Scale 2"])

    def test_what_was_withdrawn_holds_nothing_up_and_what_was_handed_in_stays(self):
        Task.objects.filter(pk=self.tasks[0].pk).update(withdrawn_at=timezone.now())
        self.assertEqual(self.waits()[1], "")
        Task.objects.filter(pk=self.tasks[2].pk).update(state="handed_in")
        self.assertEqual(self.waits()[2], "")

    def test_without_an_order_all_are_open(self):
        self.in_order(False)
        self.assertEqual(self.waits(), ["", "", ""])

    def test_another_student_s_tasks_hold_nothing_up(self):
        Task.objects.filter(pk=self.tasks[0].pk).update(enrolment=self.scene.ossian)
        self.assertEqual(self.waits()[1], "")

    def test_the_stand_says_so_and_nothing_can_be_recorded(self):
        page = self.client.get(reverse("stand:index"))
        self.assertContains(page, "Opens when the one before it is passed.", count=2)
        waiting = self.tasks[1]
        for name in ("task", "stand:play"):
            self.assertContains(self.client.get(reverse(name, args=[waiting.pk]), follow=True), "This opens when “Scale 3” is passed.")
        with self.assertRaisesMessage(TakeRefused, "“Scale 3” is passed"):
            scenes.recorded_by(waiting, data=tone(1.0))
        self.assertNotContains(self.client.get(reverse("task", args=[self.tasks[0].pk])), "This opens when")
