"""What is not another's to do: studios, groups, takes and answers side by side, and where a sign-in leads."""

from __future__ import annotations

import io
from pathlib import Path

from django.conf import settings
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments import services
from didactor.assignments.models import Assignment, Series, TaskState, WeekNote
from didactor.core.errors import PassageError
from didactor.people.models import Consent, Person
from didactor.people.services import add_student, record_consent, withdraw_consent
from didactor.review.models import Mark
from didactor.review.services import Draft, open_review, save_draft, send
from didactor.takes.models import Take
from didactor.takes.services import TakeRefused, begin_upload, delete_take, receive_take, submit_take
from tests import scene as scenes
from tests.music import silence

BACKEND = "didactor.people.backends.PasswordBackend"


class NeighboursTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scenes.build(listen_first=False)
        self.other = scenes.teacher("Inner light", "wilma")
        self.wenna = add_student(studio=self.other.studio, name="Wenna", instrument="horn", level="beginner", group_name="Skerries")

    def sign_in(self, person: Person) -> None:
        self.client.force_login(person, backend=BACKEND)

    def send_in(self, enrolment: object = None) -> Take:
        student = self.scene.ylva.student
        return receive_take(student=student, task=self.scene.task, source=io.BytesIO(silence(3.0)), filename="a.wav")

    def fields(self, **more: object) -> dict[str, object]:
        return {
            "title": "Together",
            "due_at": "2030-03-01T20:00",
            "tempo": "80",
            "beat_unit": "quarter",
            "step": "play",
            "stage": "at_tempo",
            "band_percent": "5",
            "count_off": "4",
            "checklist": ["notes"],
            "students_see": "marks",
            "metronome": "allowed",
            "ritardando_beats": "0",
            **more,
        }

    def test_students_of_another_studio_are_given_nothing(self) -> None:
        self.sign_in(self.scene.teacher)
        url = f"{reverse('assign')}?passage={self.scene.passage.pk}"
        page = self.client.post(url, self.fields(enrolments=[self.scene.ylva.pk, self.wenna.pk]))
        self.assertEqual(page.status_code, 200)
        self.assertIn("enrolments", page.context["form"].errors)
        self.assertEqual(Assignment.objects.count(), 1)
        self.assertEqual(self.client.post(url, self.fields(enrolments=[self.scene.ylva.pk])).status_code, 302)

    def test_groups_of_one_name_in_two_studios_are_two(self) -> None:
        WeekNote.objects.all().delete()
        services.write_week_note(teacher=self.other, group=self.wenna.group, day=timezone.localdate(), text="Only for Wenna.")
        services.write_week_note(teacher=self.other, group=None, day=timezone.localdate(), text="For all of Inner light.")
        self.sign_in(self.scene.ylva.student)
        page = self.client.get(reverse("stand:index"))
        self.assertNotContains(page, "Only for Wenna")
        self.assertNotContains(page, "Inner light")
        self.sign_in(self.wenna.student)
        self.assertContains(self.client.get(reverse("stand:index")), "Only for Wenna")

    def test_a_note_to_one_group_is_not_another_s(self) -> None:
        reefs = add_student(studio=self.scene.teacher.studio, name="Leif", instrument="horn", level="beginner", group_name="Reefs")
        services.write_week_note(teacher=self.scene.teacher, group=reefs.group, day=timezone.localdate(), text="Reefs, bring reeds.")
        self.sign_in(self.scene.ylva.student)
        self.assertNotContains(self.client.get(reverse("stand:index")), "bring reeds")
        self.assertEqual(list(WeekNote.objects.visible_to(reefs.student).values_list("text", flat=True)), ["Reefs, bring reeds."])

    def test_a_series_of_the_same_name_is_each_studio_s_own(self) -> None:
        theirs = Series.objects.create(studio=self.other.studio, title="Scales")
        self.sign_in(self.scene.teacher)
        url = f"{reverse('assign')}?passage={self.scene.passage.pk}"
        self.client.post(url, self.fields(enrolments=[self.scene.ylva.pk], series="Scales"))
        made = Assignment.objects.get(title="Together")
        self.assertNotEqual(made.series, theirs)
        self.assertEqual(made.series.studio, self.scene.teacher.studio)
        self.assertEqual(self.client.get(reverse("assignments:series", args=[theirs.pk])).status_code, 404)

    def test_only_the_student_records_and_not_for_another(self) -> None:
        for person in (self.scene.ossian.student, self.wenna.student, self.scene.guardian, self.scene.teacher):
            with self.subTest(person=person.name), self.assertRaisesMessage(TakeRefused, "Only the student"):
                begin_upload(student=person, task=self.scene.task, filename="a.wav", length=5)
        take = self.send_in()
        for name in ("stand:submit", "stand:delete", "stand:mark"):
            self.sign_in(self.scene.ossian.student)
            self.assertEqual(self.client.post(reverse(name, args=[take.pk])).status_code, 404)
        self.assertTrue(Take.objects.filter(pk=take.pk).exists())

    def test_the_very_same_recording_of_two_is_kept_until_both_are_gone(self) -> None:
        record_consent(student=self.scene.ossian.student, given_by="Runa", recorded_by=self.scene.teacher)
        mine = self.send_in()
        theirs = receive_take(
            student=self.scene.ossian.student, task=self.scene.other_task, source=io.BytesIO(silence(3.0)), filename="b.wav"
        )
        self.assertEqual(mine.original.name, theirs.original.name)
        path = Path(settings.MEDIA_ROOT) / mine.original.name
        with self.captureOnCommitCallbacks(execute=True):
            delete_take(student=self.scene.ylva.student, take=mine)
        self.assertTrue(path.exists())
        with self.captureOnCommitCallbacks(execute=True):
            delete_take(student=self.scene.ossian.student, take=theirs)
        self.assertFalse(path.exists())

    def test_withdrawn_consent_keeps_its_date_and_is_one_student_s(self) -> None:
        ossian, gro = (
            self.scene.ossian.student,
            add_student(studio=self.scene.teacher.studio, name="Gro", instrument="tuba", level="beginner", is_minor=True).student,
        )
        for student in (ossian, gro):
            record_consent(student=student, given_by="Runa", recorded_by=self.scene.teacher)
        withdraw_consent(student=ossian)
        first = Consent.objects.get(student=ossian).withdrawn_at
        self.assertIsNotNone(first)
        withdraw_consent(student=ossian)
        self.assertEqual(Consent.objects.get(student=ossian).withdrawn_at, first)
        self.assertIsNone(Consent.objects.get(student=gro).withdrawn_at)
        self.assertTrue(Person.objects.get(pk=ossian.pk).consent_missing)
        self.assertFalse(Person.objects.get(pk=gro.pk).consent_missing)


class AnswerTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scenes.build(listen_first=False)
        self.client.force_login(self.scene.teacher, backend=BACKEND)

    def submitted(self):
        return submit_take(take=scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0}))

    def test_a_mark_of_a_sent_answer_is_not_changed_from_an_old_tab(self) -> None:
        submission = self.submitted()
        review = open_review(submission=submission, teacher=self.scene.teacher)
        mark = review.marks.get()
        url = reverse("review:decide_mark", args=[submission.pk, mark.pk])
        self.client.post(url, {"standing": "kept"})
        self.assertEqual(Mark.objects.get(pk=mark.pk).standing, "kept")
        save_draft(review=review, draft=Draft(text="Go on.", decision="once_more"))
        send(review=review)
        for change in ({"standing": "dropped"}, {"standing": "kept", "text": "Other words"}):
            self.client.post(url, change)
            self.assertEqual((Mark.objects.get(pk=mark.pk).standing, Mark.objects.get(pk=mark.pk).text), ("kept", mark.text))
        before = review.marks.count()
        self.client.post(reverse("review:add_remark", args=[submission.pk]), {"category": "tone", "text": "late"})
        self.assertEqual(review.marks.count(), before)

    def test_each_decision_leads_where_it_says(self) -> None:
        for decision, state in (("passed", TaskState.PASSED), ("next", TaskState.PASSED), ("once_more", TaskState.ANSWERED)):
            with self.subTest(decision=decision):
                self.scene = scenes.Scene(
                    **{**{f: getattr(self.scene, f) for f in self.scene.__dataclass_fields__}, "assignment": self.again()}
                )
                review = open_review(submission=self.submitted(), teacher=self.scene.teacher)
                save_draft(review=review, draft=Draft(text="", decision=decision))
                send(review=review)
                self.assertEqual(self.scene.task.state, state)

    def again(self) -> Assignment:
        fields = {"title": "Again", "due_at": self.scene.assignment.due_at, "tempo": 92.0, "band_percent": 5.0, "listen_first": False}
        return services.assign(teacher=self.scene.teacher, passage=self.scene.passage, enrolments=[self.scene.ylva], fields=fields)

    def test_an_answer_in_words_is_taken_once_and_only_where_it_is_asked(self) -> None:
        with self.assertRaisesMessage(PassageError, "Nothing is asked in words"):
            services.answer_question(task=self.scene.task, text="It was in D.")
        Assignment.objects.update(step="listen", question="Which key?")
        with self.assertRaisesMessage(PassageError, "a few words first"):
            services.answer_question(task=self.scene.task, text="  ")
        services.answer_question(task=self.scene.task, text="It was in D.")
        with self.assertRaisesMessage(PassageError, "with your teacher already"):
            services.answer_question(task=self.scene.task, text="No, in G.")
        self.assertEqual(self.scene.task.answer, "It was in D.")
        services.decide_answer(task=self.scene.task, passed=False)
        self.assertEqual(self.scene.task.state, TaskState.ANSWERED)
        services.answer_question(task=self.scene.task, text="In G.")
        services.decide_answer(task=self.scene.task, passed=True)
        self.assertEqual(self.scene.task.state, TaskState.PASSED)
        services.decide_answer(task=self.scene.task, passed=False)
        self.assertEqual(self.scene.task.state, TaskState.PASSED)


class SignInTests(TestCase):
    def setUp(self) -> None:
        scenes.teacher("Outer light", "hedda")

    def leads_to(self, target: str, password: str = scenes.PASSWORD):
        data = {"teacher-username": "hedda", "teacher-password": password}
        return self.client.post(reverse("people:sign_in"), data, query_params={"next": target})

    def test_a_sign_in_leads_on_inside_the_site_and_nowhere_else(self) -> None:
        self.assertEqual(self.leads_to("/library/")["Location"], "/library/")
        for target in (
            "https://elsewhere.example/",
            "//elsewhere.example/",
            "/\\elsewhere.example",
            "javascript:alert(1)",
            "elsewhere",
            "",
        ):
            self.client.logout()
            with self.subTest(target=target):
                self.assertEqual(self.leads_to(target)["Location"], reverse("home"))

    def test_a_wrong_password_opens_nothing(self) -> None:
        self.assertEqual(self.leads_to("/library/", "wrong").status_code, 200)
        self.assertEqual(self.client.get("/library/").status_code, 302)
