"""The list of what waits: piles, order, late ones, what is set apart, and what comes next."""

from __future__ import annotations

from datetime import timedelta

from django.db import connection
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Assignment, Task
from didactor.assignments.services import assign
from didactor.people.models import Enrolment, Group, Person, Studio
from didactor.people.services import add_student
from didactor.review.waiting import desk_of, next_to_hear
from didactor.takes.models import Analysis, Submission, Take
from tests import scene as scenes
from tests.music import tone


class WaitingTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.later = cls.scene.assignment
        fields = {"title": "Due sooner", "tempo": 92.0, "stage": "at_tempo", "band_percent": 5.0, "checklist": ["notes"]}
        fields["due_at"] = timezone.now() + timedelta(days=1)
        cls.sooner = assign(teacher=cls.scene.teacher, passage=cls.scene.passage, enrolments=[cls.scene.ossian], fields=fields)
        cls.players = [
            add_student(studio=cls.scene.teacher.studio, name=f"Player {k}", instrument="clarinet", level="advanced") for k in range(4)
        ]
        cls.url = reverse("review:waiting")

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def handed_in(self, who: int, assignment: Assignment, worst: str = "", **fields: object) -> Submission:
        task, _ = Task.objects.get_or_create(assignment=assignment, enrolment=self.players[who], defaults={"passage": self.scene.passage})
        take = scenes.recorded_by(task, data=tone(1.0 + 0.01 * Take.objects.count()))
        Analysis.objects.create(
            take=take, engine_version="x", parameters={}, result={}, summary={"strip": [["3", worst, ""], ["4", "", ""]]}, seconds=1.0
        )
        Take.objects.filter(pk=take.pk).update(**{"state": "analysed", **fields})
        Task.objects.filter(pk=task.pk).update(state="handed_in")
        return Submission.objects.create(take=take)

    def test_a_submission_carries_its_studio_whoever_writes_the_row(self):
        own = self.scene.teacher.studio
        first = self.handed_in(0, self.sooner)
        take = scenes.recorded_by(self.later.tasks.first(), data=tone(2.0))
        (second,) = Submission.objects.bulk_create([Submission(take=take)])
        self.assertEqual(set(Submission.objects.filter(studio=own)), {first, second})
        with connection.cursor() as cursor:
            # A host of the version before knows nothing of it.
            cursor.execute("UPDATE takes_submission SET studio_id = NULL")
        self.assertEqual(Submission.objects.filter(studio=own).count(), 2)
        self.assertEqual(Submission.objects.visible_to(self.scene.teacher).count(), 2)
        stranger = Person.objects.create(username="elsewhere", role="teacher", studio=Studio.objects.create(name="Elsewhere"))
        self.assertFalse(Submission.objects.visible_to(stranger).exists())

    def test_takes_of_one_assignment_lie_together_and_what_is_due_first_is_first(self):
        handed_in = [self.handed_in(k, self.later if k % 2 else self.sooner) for k in range(4)]
        desk = desk_of(self.scene.teacher)
        self.assertEqual([pile.assignment for pile in desk.piles], [self.sooner, self.later])
        order = [entry.submission for pile in desk.piles for entry in pile.entries]
        self.assertEqual(order, [handed_in[k] for k in (0, 2, 1, 3)])
        self.assertEqual([(c.title, c.number) for c in desk.assignments], [("Due sooner", 2), (self.later.title, 2)])
        page = self.client.get(self.url)
        self.assertContains(page, reverse("class_sheet", args=[self.sooner.pk]))
        one = self.client.get(self.url, {"of": self.later.pk})
        self.assertContains(one, "2 takes to hear")
        self.assertEqual([pile.assignment for pile in one.context["desk"].piles], [self.later])
        self.assertEqual(self.client.get(self.url, {"of": "²"}).context["desk"].total, 4)

    def test_one_group_alone(self):
        own = [self.handed_in(k, self.later if k % 2 else self.sooner) for k in range(3)]
        group = Group.objects.create(studio=self.scene.teacher.studio, name="Band")
        Enrolment.objects.filter(pk__in=[self.players[0].pk, self.players[1].pk]).update(group=group)
        page = self.client.get(self.url, {"group": group.pk})
        desk = page.context["desk"]
        self.assertEqual({e.submission for pile in desk.piles for e in pile.entries}, set(own[:2]))
        self.assertEqual((desk.total, [(c.title, c.number) for c in desk.groups]), (2, [("Band", 2)]))
        self.assertContains(page, "Band · due", count=2)

    def test_the_desk_goes_on_in_the_same_order_and_comes_round(self):
        handed_in = [self.handed_in(k, self.later if k % 2 else self.sooner) for k in range(4)]
        teacher = self.scene.teacher
        self.assertEqual(next_to_hear(teacher), handed_in[0].pk)
        self.assertEqual(next_to_hear(teacher, handed_in[2]), handed_in[1].pk)
        self.assertEqual(next_to_hear(teacher, handed_in[3]), handed_in[0].pk)
        self.assertEqual(next_to_hear(teacher, handed_in[3], answered=handed_in[0].pk), handed_in[2].pk)
        Submission.objects.exclude(pk=handed_in[1].pk).update(answered_at=timezone.now())
        self.assertIsNone(next_to_hear(teacher, handed_in[1]))

    def test_what_cannot_be_judged_or_is_the_same_recording_is_set_apart_at_the_end(self):
        first = self.handed_in(0, self.sooner, state="unusable", trouble="Nothing but wind.")
        plain = self.handed_in(1, self.later)
        twin = self.handed_in(2, self.later, same_as=plain.take)
        desk = desk_of(self.scene.teacher)
        self.assertEqual([entry.submission for entry in desk.apart], [first, twin])
        self.assertEqual(desk.first.submission, plain)
        self.assertEqual(next_to_hear(self.scene.teacher, plain), first.pk)
        page = self.client.get(self.url)
        self.assertContains(page, "Nothing but wind.")
        self.assertContains(page, "the same recording as Player 1’s take 1")

    def test_late_is_said_by_the_student_s_own_date(self):
        late = self.handed_in(0, self.sooner)
        given_longer = self.handed_in(1, self.sooner)
        Assignment.objects.filter(pk=self.sooner.pk).update(due_at=timezone.now() - timedelta(days=1))
        Task.objects.filter(pk=given_longer.take.task_id).update(own_due_at=timezone.now() + timedelta(days=1))
        entries = {entry.submission: entry.is_late for pile in desk_of(self.scene.teacher).piles for entry in pile.entries}
        self.assertEqual(entries, {late: True, given_longer: False})
        self.assertContains(self.client.get(self.url), "late-mark", count=1)

    def test_what_a_take_mends_since_the_one_before_is_said(self):
        before = self.handed_in(0, self.sooner, worst="notes")
        Submission.objects.filter(pk=before.pk).update(answered_at=timezone.now())
        self.handed_in(0, self.sooner)
        self.handed_in(1, self.sooner)
        page = self.client.get(self.url)
        self.assertContains(page, "Since the last take: bar 3 mended.", count=1)

    def test_queries_do_not_grow_and_only_a_sitting_is_shown(self):
        self.handed_in(0, self.sooner)
        self.client.get(self.url)  # a session is written down once a day
        with self.assertNumQueries(11):
            self.client.get(self.url)
        for k in range(1, 4):
            self.handed_in(k, self.later)
            self.handed_in(k, self.sooner)
        with self.assertNumQueries(11):
            self.client.get(self.url)

    def test_what_the_ear_has_not_finished_is_told_by_number_alone(self):
        take = self.handed_in(0, self.sooner).take
        Submission.objects.all().delete()
        Take.objects.filter(pk=take.pk).update(state="stored")
        page = self.client.get(self.url)
        self.assertContains(page, "1 is being listened to by the ear")
        self.assertNotContains(page, "Player 0")
