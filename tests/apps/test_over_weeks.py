"""A student over weeks and a group’s grid: what is counted, what is silent, and the tables for other programs."""

from __future__ import annotations

import csv
import io
from datetime import timedelta

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Assignment, Series, Task
from didactor.people.models import Enrolment
from didactor.practice.models import Attempt
from didactor.progress.over_weeks import minutes_by_week, takes_then
from didactor.takes.models import Analysis, SelfMark, SelfReview, Submission, Take
from tests import scene as scenes
from tests.music import tone


class WeeksTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.student = cls.scene.ylva.student
        cls.url = reverse("progress:weeks", args=[cls.student.pk])

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def handed_in(self, weeks_ago: int, *places: list, qpm: float | None = 88.0) -> Take:
        take = scenes.recorded(self.scene, hear=False, data=tone(1.0 + 0.01 * Take.objects.count()))
        summary = {
            "strip": [[str(bar), "", ""] for bar in range(9)],
            "played_qpm": qpm,
            "findings": len(places),
            "categories": {place[1]: 1 for place in places},
            "places": list(places),
        }
        Analysis.objects.create(take=take, engine_version="x", parameters={}, result={}, summary=summary, seconds=1.0)
        Take.objects.filter(pk=take.pk).update(state="analysed", created_at=timezone.now() - timedelta(weeks=weeks_ago), duration_s=120.0)
        Submission.objects.create(take=take)
        return take

    def wrong(self, bar: str) -> list:
        return ["notes.wrong", "notes", bar, 0.0, 2.0, 1.0, 1.5]

    def test_a_term_without_data_says_when_the_first_line_begins(self):
        self.assertContains(self.client.get(self.url), "With two takes of a piece")
        self.assertNotContains(self.client.get(self.url), "takes.csv")

    def test_thinking_time_of_first_readings_alone_from_two_on(self):
        for weeks_ago, seconds in ((3, 14.0), (2, 5.0), (1, 9.0)):
            take = self.handed_in(weeks_ago)
            Analysis.objects.filter(take=take).update(summary=Analysis.objects.get(take=take).summary | {"paused_s": seconds})
            stage = "at_tempo" if weeks_ago == 1 else "first_reading"
            Take.objects.filter(pk=take.pk).update(basis=take.basis | {"targets": take.basis["targets"] | {"stage": stage}})
            if weeks_ago == 3:
                self.assertNotContains(self.client.get(self.url), "<h2>Thinking time</h2>")
        page = self.client.get(self.url)
        self.assertContains(page, "14 s → 5 s")
        self.assertContains(page, "<td>14 s</td>")
        self.assertNotContains(page, "<td>9 s</td>")

    def test_pictures_and_their_figures(self):
        for weeks_ago in (3, 2, 1):
            self.handed_in(weeks_ago, *([self.wrong("3")] if weeks_ago > 1 else []), qpm=80.0 + weeks_ago)
        page = self.client.get(self.url)
        self.assertContains(page, 'class="best"', count=0)
        self.assertContains(page, "81 clean")
        self.assertContains(page, "quarter = 92", count=3)
        self.assertContains(page, "2 of 3", msg_prefix="notes were heard in two of three takes")

    def test_a_place_that_comes_back_leads_to_the_newest_take_with_it(self):
        self.handed_in(2, self.wrong("3"))
        last = self.handed_in(1, self.wrong("3"))
        page = self.client.get(self.url)
        self.assertContains(page, f'<a href="{reverse("take", args=[last.pk])}">Test tune, bar 3</a>: notes')

    def test_what_was_not_handed_in_or_could_not_be_judged_is_not_in_it(self):
        self.handed_in(1).submission.delete()
        unusable = self.handed_in(1)
        Take.objects.filter(pk=unusable.pk).update(state="unusable")
        self.assertEqual(takes_then(self.student), [])

    def test_pins_are_what_the_student_wants_to_mend_in_a_bar_of_the_passage(self):
        take = self.handed_in(1)
        own = SelfReview.objects.create(take=take, done_at=timezone.now())
        for bar, verdict in (("3", "mend"), ("4", "good"), ("99", "mend"), ("", "mend")):
            SelfMark.objects.create(self_review=own, category="notes", verdict=verdict, bar=bar)
        [then] = takes_then(self.student)
        self.assertEqual((then.pins, then.marked), ([("3", 3, "notes")], True))

    def test_minutes_are_of_attempts_and_takes_by_week(self):
        self.handed_in(1)
        Attempt.objects.create(task=self.scene.task, stone="1-1", bars="1", tempo=60, seconds=90.0)
        Attempt.objects.create(
            task=self.scene.task, stone="1-1", bars="1", tempo=60, seconds=600.0, made_at=timezone.now() - timedelta(weeks=30)
        )
        weeks = minutes_by_week(self.student)
        self.assertEqual(len(weeks), 12)
        self.assertTrue(all(monday.weekday() == 0 for monday, _ in weeks))
        self.assertEqual([round(m, 1) for _, m in weeks[-2:]], [2.0, 1.5])
        self.assertEqual(sum(m for _, m in weeks[:-2]), 0.0)

    def test_queries_do_not_grow_with_the_weeks(self):
        self.handed_in(1)
        self.client.get(self.url)  # a session is written down once a day
        with self.assertNumQueries(10):
            self.client.get(self.url)
        for weeks_ago in range(2, 8):
            self.handed_in(weeks_ago, self.wrong("3"))
        with self.assertNumQueries(10):
            self.client.get(self.url)

    def test_the_table_has_a_line_a_take_and_no_formula(self):
        Assignment.objects.update(title="=1+1")
        self.handed_in(1, self.wrong("3"), qpm=None)
        answer = self.client.get(reverse("progress:takes_file", args=[self.student.pk]))
        self.assertIn("attachment", answer["Content-Disposition"])
        [row] = csv.DictReader(io.StringIO(answer.content.decode("utf-8-sig")))
        self.assertEqual((row["assignment"], row["asked"], row["played"], row["findings"], row["notes"]), ("'=1+1", "92", "", "1", "1"))


class GridTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        cls.group = cls.scene.ylva.group
        Enrolment.objects.filter(pk=cls.scene.ossian.pk).update(group=cls.group)
        cls.url = reverse("group", args=[cls.group.pk])

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def table(self, **chosen: object) -> list[list[str]]:
        answer = self.client.get(reverse("progress:grid_file", args=[self.group.pk]), chosen)
        return list(csv.reader(io.StringIO(answer.content.decode("utf-8-sig"))))

    def test_every_state_has_its_sign_and_words(self):
        states = {"passed": "passed", "answered": "answered, once more", "handed_in": "handed in", "in_work": "in work", "open": "open"}
        for state, words in states.items():
            Task.objects.filter(pk=self.scene.task.pk).update(state=state)
            self.assertEqual(self.table()[2], ["Ylva", "Clarinet in B flat", words])
            self.assertContains(self.client.get(self.url), f'class="sign {state}"')
        Assignment.objects.update(due_at=timezone.now() - timedelta(days=1))
        self.assertEqual(self.table()[2][2], "late")
        Task.objects.filter(pk=self.scene.task.pk).update(withdrawn_at=timezone.now())
        self.assertEqual(self.table()[2][2], "withdrawn")

    def test_the_foot_counts_who_has_it(self):
        Task.objects.filter(pk=self.scene.task.pk).update(state="passed")
        page = self.client.get(self.url)
        self.assertEqual(page.context["grid"].feet, [(1, 2)])

    def test_a_series_alone_and_an_empty_group(self):
        series = Series.objects.create(studio=self.scene.teacher.studio, title="Check-offs")
        self.assertNotContains(self.client.get(self.url), "Check-offs")
        Assignment.objects.update(series=series)
        self.assertContains(self.client.get(self.url), "Check-offs")
        self.assertEqual(len(self.table(series=series.pk)[0]), 3)
        self.assertEqual(len(self.table(series=series.pk + 1)[0]), 2)
        self.assertEqual(len(self.table(series="²")[0]), 3)
        Enrolment.objects.update(group=None)
        self.assertContains(self.client.get(self.url), "Nobody is in this group now.")
