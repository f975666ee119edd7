"""An assignment taken back, given again, given to more: nothing that was handed in is lost."""

from __future__ import annotations

from django.test import TestCase
from django.urls import reverse

from didactor.assignments import services
from didactor.assignments.models import Assignment, Task, TaskState
from didactor.library.models import Passage
from didactor.people.services import add_student
from didactor.takes.services import TakeRefused, begin_upload, submit_take
from tests import scene as scenes


class WithdrawingTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scenes.build(listen_first=False)
        self.sign_in(self.scene.teacher)

    def sign_in(self, person: object) -> None:
        self.client.force_login(person, backend="didactor.people.backends.PasswordBackend")  # type: ignore[arg-type]

    def post(self, name: str, pk: int, **data: object):
        return self.client.post(reverse(f"assignments:{name}", args=[pk]), data, follow=True)

    def test_what_was_not_begun_is_hidden_from_the_student_and_comes_back(self) -> None:
        page = self.post("withdraw", self.scene.assignment.pk)
        self.assertContains(page, "Withdrawn from 2 students")
        self.assertContains(self.client.get(reverse("assignments:index")), "withdrawn")
        self.sign_in(self.scene.ylva.student)
        self.assertNotContains(self.client.get(reverse("stand:index")), str(self.scene.assignment))
        self.assertEqual(self.client.get(reverse("task", args=[self.scene.task.pk])).status_code, 404)
        self.sign_in(self.scene.teacher)
        self.assertContains(self.post("give", self.scene.assignment.pk, enrolment=self.scene.ylva.pk), "is given to 1 student")
        self.sign_in(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("stand:index")), str(self.scene.assignment))
        self.sign_in(self.scene.ossian.student)
        self.assertNotContains(self.client.get(reverse("stand:index")), str(self.scene.assignment))

    def test_what_was_handed_in_stays_and_is_answered_but_no_more_is_taken(self) -> None:
        submit_take(take=scenes.recorded(self.scene))
        self.post("withdraw", self.scene.assignment.pk)
        self.assertContains(self.client.get(reverse("review:waiting")), "Ylva")
        self.assertContains(self.client.get(reverse("assignment", args=[self.scene.assignment.pk])), "Handed in, withdrawn")
        self.sign_in(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("task", args=[self.scene.task.pk])), "taken this passage back")
        with self.assertRaisesMessage(TakeRefused, "taken this passage back"):
            begin_upload(student=self.scene.ylva.student, task=self.scene.task, filename="a.wav", length=10)

    def test_only_what_is_out_and_not_passed_can_be_taken_back(self) -> None:
        page = reverse("assignment", args=[self.scene.assignment.pk])
        self.assertTrue(self.client.get(page).context["may_withdraw"])
        tasks = self.scene.assignment.tasks.order_by("pk")
        tasks.update(state=TaskState.PASSED)
        self.assertFalse(self.client.get(page).context["may_withdraw"])
        tasks.update(state=TaskState.HANDED_IN)
        services.withdraw(Task.objects.filter(pk=tasks[0].pk))
        self.assertTrue(self.client.get(page).context["may_withdraw"])
        services.withdraw(Task.objects.filter(pk=tasks[1].pk))
        self.assertFalse(self.client.get(page).context["may_withdraw"])

    def test_a_take_on_its_way_is_refused_with_words(self) -> None:
        upload = begin_upload(student=self.scene.ylva.student, task=self.scene.task, filename="a.wav", length=4)
        services.withdraw(Task.objects.filter(pk=self.scene.task.pk))
        self.sign_in(self.scene.ylva.student)
        answer = self.client.patch(
            reverse("takes:upload", args=[upload.pk]),
            b"RIFF",
            content_type="application/offset+octet-stream",
            headers={"Upload-Offset": "0"},
        )
        self.assertContains(answer, "taken this passage back", status_code=422)

    def test_one_student_alone(self) -> None:
        self.assertContains(self.post("withdraw_task", self.scene.task.pk), "Withdrawn from Ylva")
        self.assertEqual(list(Task.objects.filter(withdrawn_at=None)), [self.scene.other_task])
        self.assertContains(self.post("withdraw_task", self.scene.task.pk), "withdrawn before")
        counts = Assignment.objects.with_progress().get()
        self.assertEqual((counts.task_count, counts.open_count, counts.withdrawn_count), (1, 1, 1))

    def test_what_is_passed_is_not_withdrawn(self) -> None:
        Task.objects.filter(pk=self.scene.task.pk).update(state=TaskState.PASSED)
        self.assertEqual(services.withdraw(self.scene.assignment.tasks.all()), 1)
        self.assertIsNone(self.scene.task.withdrawn_at)
        self.assertFalse(Task(state=TaskState.PASSED, assignment=self.scene.assignment).is_late)

    def test_given_to_more_in_their_own_part_and_to_nobody_twice(self) -> None:
        horn = add_student(studio=self.scene.teacher.studio, name="Tobin", instrument="horn", level="intermediate")
        page = self.post("give", self.scene.assignment.pk, enrolment=[horn.pk, self.scene.ylva.pk])
        self.assertContains(page, "is given to 1 student.")
        self.assertContains(self.post("give", self.scene.assignment.pk, enrolment=[horn.pk]), "who does not have it")
        task = Task.objects.get(enrolment=horn)
        self.assertNotEqual(task.passage, self.scene.passage)
        self.assertEqual(Passage.objects.get(pk=task.passage_id).revision.arranged_from, self.scene.passage.revision)
        self.assertEqual(self.scene.assignment.tasks.count(), 3)

    def test_nobody_of_another_studio_and_nobody_who_left(self) -> None:
        other = add_student(studio=scenes.teacher("Inner light", "wilma").studio, name="Wenna", instrument="horn", level="beginner")
        gone = add_student(studio=self.scene.teacher.studio, name="Leif", instrument="horn", level="beginner")
        gone.student.is_active = False
        gone.student.save()
        self.post("give", self.scene.assignment.pk, enrolment=[other.pk, gone.pk, "²", "x"])
        self.assertEqual(self.scene.assignment.tasks.count(), 2)

    def test_a_newcomer_to_the_group_is_offered_what_is_open_there(self) -> None:
        new = add_student(studio=self.scene.teacher.studio, name="Sunna", instrument="flute", level="beginner", group_name="Skerries")
        page = self.client.get(reverse("record", args=[new.student_id]))
        self.assertContains(page, "Open in the group")
        self.assertContains(page, "Give it to Sunna")
        self.post("give", self.scene.assignment.pk, enrolment=new.pk)
        self.assertNotContains(self.client.get(reverse("record", args=[new.student_id])), "Open in the group")
        alone = add_student(studio=self.scene.teacher.studio, name="Aksel", instrument="flute", level="beginner", group_name="Reefs")
        self.assertNotContains(self.client.get(reverse("record", args=[alone.student_id])), "Open in the group")

    def test_what_is_withdrawn_or_over_is_not_offered(self) -> None:
        new = add_student(studio=self.scene.teacher.studio, name="Sunna", instrument="flute", level="beginner", group_name="Skerries")
        self.assertEqual(list(services.open_for(new)), [self.scene.assignment])
        services.withdraw(Task.objects.filter(enrolment=self.scene.ylva))
        self.assertFalse(services.open_for(new).exists())
        services.give_to(assignment=self.scene.assignment, enrolments=[self.scene.ylva])
        Assignment.objects.update(due_at="2020-01-01T00:00:00Z")
        self.assertFalse(services.open_for(new).exists())
