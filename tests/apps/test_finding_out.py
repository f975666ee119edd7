"""A student looks before being told: on the stand, against the clock, and beside the take at the teacher's desk."""

from __future__ import annotations

from datetime import timedelta

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.finding_out import questions_of
from didactor.assignments.models import FindOut, FoundOut
from didactor.assignments.services import assign, open_sealed
from tests import scene as scenes


class FindingOutTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(stage="first_reading", ladder=[60.0, 76.0, 92.0])
        self.task = self.scene.task
        self.client.force_login(self.scene.ylva.student)
        self.page = reverse("stand:find_out", args=[self.task.pk])

    def say(self, **said: object):
        return self.client.post(reverse("stand:found", args=[self.task.pk]), said)

    def change(self, **fields: object) -> None:
        for name, value in fields.items():
            setattr(self.scene.assignment, name, value)
        self.scene.assignment.save()

    def test_the_sheet_opens_after_the_student_has_looked(self):
        study = reverse("study", args=[self.task.pk])
        self.assertRedirects(self.client.get(study), self.page)
        self.assertEqual(self.client.get(reverse("task", args=[self.task.pk])).context["next"].url, self.page)
        page = self.client.get(self.page)
        self.assertNotContains(page, 'class="ring')
        self.say(key=sorted(questions_of(self.task).key), hardest="3", tempo="60")
        page = self.client.get(self.page)
        self.assertContains(page, 'class="ring found"')
        self.assertEqual(self.client.get(study).status_code, 200)
        self.assertEqual(self.client.get(reverse("task", args=[self.task.pk])).context["next"].words, "Sit down and play")

    def test_what_was_said_once_stays_and_only_what_was_asked_counts(self):
        self.client.get(self.page)
        self.say(key=["nonsense", min(questions_of(self.task).key)], hardest="77", tempo="nan", **{"count-x": "1"})
        kept = FoundOut.objects.get(task=self.task)
        self.assertEqual(kept.answers["key"], [min(questions_of(self.task).key)])
        self.assertEqual((kept.answers["hardest"], kept.answers["tempo"], kept.answers["counts"]), (None, None, {}))
        self.say(passed="1")
        self.assertEqual(FoundOut.objects.get(task=self.task).answers, kept.answers)

    def test_who_cannot_say_is_shown_all_the_same(self):
        self.say(passed="1", hardest="3")
        kept = FoundOut.objects.get(task=self.task)
        self.assertEqual({entry["right"] for entry in kept.result}, {None})
        self.assertContains(self.client.get(self.page), 'class="ring overlooked"')

    def test_a_teacher_chooses_and_who_does_not_read_is_not_asked(self):
        self.change(find_out=FindOut.NO)
        self.assertRedirects(self.client.get(self.page), reverse("task", args=[self.task.pk]))
        self.assertEqual(self.client.get(reverse("study", args=[self.task.pk])).status_code, 200)
        self.change(find_out=FindOut.YES, stage="at_tempo")
        self.assertEqual(self.client.get(self.page).status_code, 200)
        self.scene.ylva.reads_notes = False
        self.scene.ylva.save()
        self.assertRedirects(self.client.get(self.page), reverse("task", args=[self.task.pk]))
        self.say(hardest="3")
        self.assertFalse(FoundOut.objects.filter(done_at__isnull=False).exists())

    def test_reading_at_sight_no_aid_is_open_before_the_first_take(self):
        self.change(stage="sight_reading", preparation_s=60)
        self.assertRedirects(self.client.get(self.page), reverse("task", args=[self.task.pk]))
        self.assertRedirects(self.say(hardest="3"), reverse("task", args=[self.task.pk]))
        open_sealed(self.task)
        self.assertContains(self.client.get(self.page), "seconds to read it")
        self.say(passed="1")
        study = reverse("study", args=[self.task.pk])
        self.assertRedirects(self.client.get(study), reverse("task", args=[self.task.pk]))
        self.assertNotContains(self.client.get(self.page), "Open the study sheet")
        self.change(aids_open=True)
        self.assertEqual(self.client.get(study).status_code, 200)
        self.change(aids_open=False)
        scenes.recorded(self.scene, hear=False)
        self.assertEqual(self.client.get(study).status_code, 200)

    def test_a_guardian_looking_in_does_not_start_the_looking(self):
        self.client.force_login(self.scene.guardian)
        page = self.client.get(reverse("stand:find_out", args=[self.scene.other_task.pk]))
        self.assertContains(page, "has not looked through it yet")
        self.assertFalse(FoundOut.objects.exists())

    def test_the_teacher_sees_beside_the_take_what_was_found_and_in_what_time(self):
        self.client.get(self.page)
        FoundOut.objects.update(begun_at=timezone.now() - timedelta(seconds=42))
        self.say(tempo="60", hardest="0")
        take = scenes.recorded(self.scene)
        self.client.post(reverse("stand:mark", args=[take.pk]), {"work_on": "the runs"})
        self.client.post(reverse("stand:submit", args=[take.pk]))
        self.client.force_login(self.scene.teacher)
        page = self.client.get(reverse("review:detail", args=[take.submission.pk]))
        self.assertContains(page, "1 of 4 found in 42 s")
        self.assertContains(page, "You chose bar 0")


class OrderOnTheStandTests(scenes.OwnFolders, TestCase):
    def test_the_teachers_order_comes_first_then_the_date_and_minutes_are_said(self):
        scene = scenes.build(minutes=10)
        order = []
        for title, place, days in (("Later, no place", None, 9), ("First", 1, 9), ("Second", 2, 1)):
            values = {"title": title, "place": place, "due_at": timezone.now() + timedelta(days=days), "tempo": 92.0, "band_percent": 5.0}
            order.append(assign(teacher=scene.teacher, passage=scene.passage, enrolments=[scene.ylva], fields=values))
        self.client.force_login(scene.ylva.student)
        page = self.client.get(reverse("stand:index"))
        titles = [str(row.task.assignment) for row in page.context["stands"][0]["rows"]]
        self.assertEqual(titles, ["First", "Second", "Test tune, whole", "Later, no place"])
        self.assertContains(page, "10 minutes a day")
