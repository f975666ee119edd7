"""Two tiers, a dress rehearsal before its final, a series for another term."""

from __future__ import annotations

from datetime import date, timedelta

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.chains import give_series_again, hang_rehearsal
from didactor.assignments.models import Assignment, Series, Task
from didactor.assignments.services import assign, change_assignment, frozen_basis, give_to, set_order, withdraw
from didactor.core.errors import PassageError
from didactor.people.models import Enrolment, Group
from didactor.progress.grid import grid_of
from didactor.takes.best import best_of
from didactor.takes.models import Analysis, Submission, Take
from didactor.takes.services import TakeRefused
from didactor.takes.uploads import own_tempo
from tests import scene as scenes
from tests.music import tone

FIELDS = {"tempo": 92.0, "stage": "at_tempo", "band_percent": 5.0, "checklist": ["notes"]}


class TierTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(fast_tempo=108)
        self.task = self.scene.task

    def take(self, played_qpm: float, findings: int = 0, own: float | None = None) -> Take:
        take = scenes.recorded(self.scene, hear=False, data=tone(1.0 + 0.01 * Take.objects.count()))
        Take.objects.filter(pk=take.pk).update(state="analysed", basis=take.basis | {"own_tempo": own})
        summary = {"played_qpm": played_qpm, "findings": findings}
        Analysis.objects.create(take=take, engine_version="x", parameters={}, result={}, summary=summary, seconds=1.0)
        return take

    def test_the_fast_tempo_may_be_chosen_and_is_what_the_take_is_judged_by_and_no_other(self):
        self.assertIn(108, self.task.tempi)
        self.assertEqual([own_tempo(self.task, text) for text in ("108", "100", "92", "", "nan")], [108.0, None, None, None, None])
        basis = frozen_basis(self.task, own_tempo=108.0)
        self.assertEqual((basis["own_tempo"], basis["targets"]["tempo_qpm"], basis["targets"]["band_percent"]), (108.0, 108.0, 5.0))
        self.assertEqual(frozen_basis(self.task, own_tempo=100.0)["targets"]["tempo_qpm"], 92.0)

    def test_it_is_above_what_is_asked_of_this_student(self):
        self.task.tempo = 120.0
        self.assertIsNone(self.task.fast_tempo)
        self.assertIsNone(frozen_basis(self.task, own_tempo=108.0)["own_tempo"])

    def test_own_best_is_the_fastest_that_was_carried(self):
        self.assertEqual(best_of([self.task.pk]), {})
        self.take(93.0)
        self.take(107.0, findings=2, own=108.0)
        best = best_of([self.task.pk])[self.task.pk]
        self.assertEqual((best.tempo, best.fast), (93.0, False))
        self.take(107.0, own=108.0)
        best = best_of([self.task.pk])[self.task.pk]
        self.assertEqual((best.tempo, best.fast), (107.0, True))

    def test_the_stand_the_task_and_the_group_s_grid_tell_it(self):
        self.take(107.0, own=108.0)
        self.client.force_login(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("stand:index")), "fast 108; your best 107")
        self.assertContains(self.client.get(reverse("task", args=[self.task.pk])), "Your best so far: 107")
        Task.objects.filter(pk=self.task.pk).update(state="passed")
        [(_, [(sign, words)])] = grid_of(self.scene.ylva.group).rows
        self.assertEqual((sign, words), ("fast", "passed, in the fast tier, at 107 at best"))
        self.assertEqual(grid_of(self.scene.ylva.group).feet, [(1, 1)])
        Task.objects.filter(pk=self.scene.task.pk).update(withdrawn_at=timezone.now())
        self.assertEqual(len(grid_of(self.scene.ylva.group).assignments), 1, "what is passed stays")
        Task.objects.filter(pk=self.scene.task.pk).update(state="open")
        self.assertEqual(grid_of(self.scene.ylva.group).assignments, [])

    def test_the_form_refuses_one_that_is_no_faster(self):
        self.client.force_login(self.scene.teacher)
        sent = {"title": "T", "beat_unit": "quarter", "tempo": "92", "fast_tempo": "92", "stage": "at_tempo", "checklist": "notes"}
        answer = self.client.post(f"{reverse('assign')}?passage={self.scene.passage.pk}", sent)
        self.assertContains(answer, "The fast tier is above")


class RehearsalTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(stage="final", takes_allowed=1)
        self.final = self.scene.assignment
        self.made = hang_rehearsal(final=self.final, days_before=2)

    @property
    def task(self) -> Task:
        return Task.objects.get(pk=self.scene.task.pk)

    def test_it_stands_before_its_final_like_the_real_thing_but_as_often_as_one_likes(self):
        self.assertEqual((self.made.stage, self.made.takes_allowed, self.made.tempo), ("rehearsal", None, self.final.tempo))
        self.assertEqual(self.made.due_at, self.final.due_at - timedelta(days=2))
        self.assertEqual(self.made.tasks.count(), 2)
        with self.assertRaises(PassageError):
            hang_rehearsal(final=self.final, days_before=1)
        with self.assertRaises(PassageError):
            hang_rehearsal(final=self.made, days_before=1)

    def test_the_final_opens_when_it_is_handed_in(self):
        with self.assertRaisesMessage(TakeRefused, "dress rehearsal” is handed in"):
            scenes.recorded(self.scene, hear=False)
        self.client.force_login(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("task", args=[self.task.pk])), "is handed in.")
        self.assertContains(self.client.get(reverse("stand:index")), "Opens after what stands before it")
        self.made.tasks.filter(enrolment=self.scene.ylva).update(state="handed_in")
        self.assertIsNone(self.task.waits_for)
        self.assertIsNotNone(scenes.recorded(self.scene, hear=False))
        self.assertNotContains(self.client.get(reverse("stand:index")), "Opens after what stands before it")
        self.assertIsNotNone(self.scene.other_task.waits_for, "the other one has not")

    def test_it_goes_where_its_final_goes(self):
        later = self.final.due_at + timedelta(days=5)
        fields = {**FIELDS, "stage": "final", "tempo": 96.0, "title": "Test", "due_at": later}
        change_assignment(assignment=self.final, teacher=self.scene.teacher, version=self.final.version, fields=fields)
        self.made.refresh_from_db()
        self.assertEqual((self.made.due_at, self.made.tempo), (later - timedelta(days=2), 96.0))
        withdraw(self.final.tasks.filter(enrolment=self.scene.ylva))
        self.assertIsNotNone(self.made.tasks.get(enrolment=self.scene.ylva).withdrawn_at)
        self.assertIsNone(self.made.tasks.get(enrolment=self.scene.ossian).withdrawn_at)
        give_to(assignment=self.final, enrolments=[self.scene.ylva])
        self.assertIsNone(self.made.tasks.get(enrolment=self.scene.ylva).withdrawn_at)

    def test_from_the_form_for_finals_alone(self):
        self.client.force_login(self.scene.teacher)
        sent = {
            "title": "Evening of light",
            "beat_unit": "quarter",
            "tempo": "92",
            "checklist": "notes",
            "count_off": "4",
            "students_see": "marks",
            "due_at": "2027-03-12T20:00",
            "enrolments": self.scene.ylva.pk,
            "rehearsal_days": "1",
        }
        for stage, count in (("at_tempo", 0), ("final", 1)):
            self.client.post(f"{reverse('assign')}?passage={self.scene.passage.pk}", {**sent, "stage": stage})
            made = Assignment.objects.filter(title="Evening of light, dress rehearsal")
            self.assertEqual(made.count(), count, stage)


class AgainTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build()
        self.group = Group.objects.create(studio=self.scene.teacher.studio, name="Next year")
        Enrolment.objects.filter(pk=self.scene.ossian.pk).update(group=self.group)
        for k in (3, 1, 2):
            self.give(f"Scale {k}", days=7 * k)
        self.series = Series.objects.get()
        set_order(series=self.series, in_order=True)
        self.client.force_login(self.scene.teacher)

    def give(self, title: str, days: int, **fields: object) -> Assignment:
        due = timezone.now() + timedelta(days=days)
        values = {**FIELDS, "series": "Scales", "title": title, "due_at": due, "fast_tempo": 104, **fields}
        return assign(teacher=self.scene.teacher, passage=self.scene.passage, enrolments=[self.scene.ylva], fields=values)

    def again(self, **sent: object):
        url = reverse("assignments:series_again", args=[self.series.pk])
        return self.client.post(url, {"title": "Scales, spring", "group": self.group.pk, "first_due": "2027-02-01", **sent})

    def test_the_chain_with_its_distances_targets_and_order(self):
        self.again()
        made = Series.objects.get(title="Scales, spring")
        chain = list(made.assignments.order_by("due_at"))
        days = [timezone.localtime(one.due_at).date() for one in chain]
        self.assertEqual(days, [date(2027, 2, 1), date(2027, 2, 8), date(2027, 2, 15)])
        self.assertEqual([one.title for one in chain], ["Scale 1", "Scale 2", "Scale 3"])
        self.assertEqual({(one.tempo, one.fast_tempo, one.tasks.get().enrolment) for one in chain}, {(92.0, 104, self.scene.ossian)})
        self.assertTrue(made.in_order)
        self.assertEqual(self.series.assignments.count(), 3)

    def test_a_rehearsal_hangs_before_its_final_there_too(self):
        hang_rehearsal(final=self.give("The end", days=28, stage="final"), days_before=3)
        made, count = give_series_again(
            series=self.series, teacher=self.scene.teacher, title="Spring", first_due=date(2027, 2, 1), enrolments=[self.scene.ossian]
        )
        final = made.assignments.get(stage="final")
        self.assertEqual((count, (final.due_at - final.rehearsal.due_at).days), (4, 3))

    def test_refused_with_words_and_nothing_is_made(self):
        empty = Group.objects.create(studio=self.scene.teacher.studio, name="Nobody")
        for sent in ({"title": "Scales"}, {"title": " "}, {"group": ""}, {"group": empty.pk}, {"first_due": "²"}):
            answer = self.again(**sent)
            self.assertEqual(answer.status_code, 422, sent)
            self.assertEqual((Series.objects.count(), Assignment.objects.count()), (1, 4), sent)
        self.assertFalse(Submission.objects.exists())
