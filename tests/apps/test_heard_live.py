"""Heard live: marked on the desk like a take, with a recording or without; and times to choose from."""

from __future__ import annotations

from datetime import timedelta

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.calendar import calendar_of
from didactor.assignments.models import Slot, Task
from didactor.assignments.slots import SlotRefused, choose, offer
from didactor.people.models import Enrolment, Group
from didactor.review.models import Mark, Review
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Submission, Take
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import wav


class LiveTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        self.client.force_login(self.scene.teacher)

    def begin(self, task: Task | None = None) -> Submission | None:
        self.client.post(reverse("review:hear_live", args=[(task or self.scene.task).pk]))
        return Submission.objects.order_by("-pk").first()

    def post(self, name: str, submission: Submission, **sent: object):
        return self.client.post(reverse(f"review:{name}", args=[submission.pk]), sent, follow=True)

    def test_marked_decided_and_found_by_the_student_without_any_sound(self):
        submission = self.begin()
        self.assertEqual(self.scene.task.state, "handed_in")
        page = self.client.get(reverse("review:detail", args=[submission.pk]))
        self.assertContains(page, "data-live=")
        self.assertNotContains(page, "data-player")
        self.assertNotContains(page, "As sent")
        self.post("add_remark", submission, bar="6", category="rhythm", text="Rhythm and pulse.")
        self.post("send", submission, decision="once_more", text="Count bar 6.")
        self.assertEqual((self.scene.task.state, Review.objects.get().decision), ("answered", "once_more"))
        self.assertEqual(self.client.get(reverse("takes:original", args=[submission.take_id])).status_code, 404)
        self.client.force_login(self.scene.ylva.student)
        page = self.client.get(reverse("take", args=[submission.take_id]), follow=True)
        self.assertContains(page, "Heard live")
        self.assertContains(page, "Rhythm and pulse.")
        self.assertIsNotNone(scenes.recorded(self.scene, hear=False), "the number of a take heard live is not given twice")

    def test_begun_twice_it_is_one_and_what_waits_already_is_answered_first(self):
        first = self.begin()
        self.assertEqual(self.begin(), first)
        self.assertEqual(Take.objects.count(), 1)
        for state in ("passed", "handed_in"):
            Submission.objects.all().delete()
            Take.objects.all().delete()
            Task.objects.filter(pk=self.scene.task.pk).update(state=state)
            self.assertIsNone(self.begin(), state)
        Task.objects.filter(pk=self.scene.task.pk).update(state="open", withdrawn_at=timezone.now())
        self.assertIsNone(self.begin())

    def test_dropped_the_task_is_as_it_was(self):
        self.post("drop_live", self.begin())
        self.assertEqual((self.scene.task.state, Take.objects.count()), ("open", 0))
        take = scenes.recorded(self.scene)
        self.post("drop_live", self.begin())
        self.assertEqual((self.scene.task.state, Take.objects.get()), ("in_work", take))
        submission = self.begin()
        self.post("send", submission, decision="passed", text="")
        self.post("drop_live", submission)
        self.assertEqual(self.scene.task.state, "passed")

    def test_only_what_was_heard_live_can_be_dropped_or_given_a_recording(self):
        submit_take(take=scenes.recorded(self.scene))
        submission = Submission.objects.get()
        for name in ("drop_live", "live_recording"):
            self.assertEqual(self.post(name, submission).status_code, 404)

    def test_a_recording_of_it_is_heard_by_the_ear_and_its_findings_come_to_the_marks(self):
        submission = self.begin()
        self.client.get(reverse("review:detail", args=[submission.pk]))
        self.post("add_remark", submission, bar="2", category="tone", text="Tone.")
        self.assertContains(self.post("live_recording", submission), "There is no recording in it")
        body = wav({"kind": "wrong", "bar": "6", "beat": 0.0})
        self.assertContains(self.post("live_recording", submission, said=SimpleUploadedFile("said.webm", body)), "the ear listens")
        analyse_take(take_id=submission.take_id)
        self.client.get(reverse("review:detail", args=[submission.pk]))
        self.assertEqual(set(Mark.objects.values_list("origin", flat=True)), {"teacher", "heard"})
        self.assertTrue(Mark.objects.filter(origin="heard", bar="6").exists())
        twice = self.post("live_recording", submission, said=SimpleUploadedFile("said.webm", wav()))
        self.assertContains(twice, "There is a recording of this already")

    def test_without_consent_nothing_is_kept_but_the_marks(self):
        submission = self.begin(self.scene.other_task)
        page = self.post("live_recording", submission, said=SimpleUploadedFile("said.webm", wav()))
        self.assertContains(page, "consent to recordings is missing")
        self.assertEqual(Take.objects.get().original.name, "")


class SlotTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build()
        self.first = (timezone.localtime() + timedelta(days=2)).replace(hour=16, minute=0, second=0, microsecond=0)
        self.client.force_login(self.scene.teacher)

    def offer(self, **fields: object) -> int:
        return offer(teacher=self.scene.teacher, **{"group": None, "first": self.first, "minutes": 15, "count": 3, **fields})

    def choose(self, slot: Slot, enrolment: Enrolment, **sent: object):
        return self.client.post(reverse("assignments:choose_slot", args=[slot.pk]), {"enrolment": enrolment.pk, **sent}, follow=True)

    def test_one_after_the_other_and_never_two_at_once(self):
        self.assertEqual(self.offer(), 3)
        at = [slot.starts_at for slot in Slot.objects.all()]
        self.assertEqual([later - self.first for later in at], [timedelta(minutes=15 * k) for k in range(3)])
        self.assertEqual(self.offer(first=self.first + timedelta(minutes=40), count=2), 1)
        with self.assertRaises(SlotRefused):
            self.offer(first=self.first + timedelta(minutes=5), count=1)
        with self.assertRaises(SlotRefused):
            self.offer(first=timezone.now() - timedelta(minutes=1))

    def test_the_teacher_s_page_offers_and_withdraws(self):
        sent = {"group": "", "first": self.first.strftime("%Y-%m-%dT%H:%M"), "minutes": "15", "count": "2"}
        self.assertContains(self.client.post(reverse("assignments:slots"), sent, follow=True), "2 times offered")
        self.assertEqual(self.client.post(reverse("assignments:slots"), sent).status_code, 422)
        slot = Slot.objects.first()
        choose(slot=slot, enrolment=self.scene.ylva)
        page = self.client.post(reverse("assignments:withdraw_slot", args=[slot.pk]), follow=True)
        self.assertContains(page, "Ylva had chosen it")
        self.assertEqual(Slot.objects.count(), 1)

    def test_a_student_chooses_one_changes_it_and_gives_it_back(self):
        self.offer()
        one, two, _ = Slot.objects.all()
        self.client.force_login(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("stand:index")), "Choose a time to be heard live")
        self.assertContains(self.choose(one, self.scene.ylva), "Heard live by Hedda")
        self.choose(two, self.scene.ylva)
        self.assertEqual(list(Slot.objects.values_list("enrolment", flat=True)), [None, self.scene.ylva.pk, None])
        self.choose(two, self.scene.ylva, back="1")
        self.assertFalse(Slot.objects.exclude(enrolment=None).exists())

    def test_what_somebody_else_has_is_not_to_be_had_nor_given_back_and_not_for_strangers(self):
        self.offer(count=1)
        slot = Slot.objects.get()
        choose(slot=slot, enrolment=self.scene.ylva)
        with self.assertRaisesMessage(SlotRefused, "quicker"):
            choose(slot=slot, enrolment=self.scene.ossian)
        self.client.force_login(self.scene.ossian.student)
        self.assertEqual(self.choose(slot, self.scene.ossian, back="1").status_code, 404)
        Slot.objects.update(enrolment=None)
        self.assertEqual(self.choose(slot, self.scene.ylva).status_code, 404, "for somebody else")
        self.client.force_login(self.scene.guardian)
        self.choose(slot, self.scene.ossian)
        self.assertEqual(Slot.objects.get().enrolment, self.scene.ossian, "a guardian for their ward")

    def test_a_group_s_times_are_its_own_and_what_is_over_is_over(self):
        self.offer(count=1, group=Group.objects.create(studio=self.scene.teacher.studio, name="Others"))
        slot = Slot.objects.get()
        self.client.force_login(self.scene.ylva.student)
        self.assertNotContains(self.client.get(reverse("stand:index")), "heard live")
        self.assertEqual(self.choose(slot, self.scene.ylva).status_code, 404)
        Slot.objects.update(group=None, starts_at=timezone.now() - timedelta(minutes=1))
        self.assertContains(self.choose(slot, self.scene.ylva), "That is over already")

    def test_both_calendars_know_it(self):
        self.offer(count=2)
        choose(slot=Slot.objects.first(), enrolment=self.scene.ylva)
        self.assertIn(b"Heard live: Ylva", calendar_of(self.scene.teacher))
        self.assertIn(b"Heard live: Hedda", calendar_of(self.scene.ylva.student))
        self.assertNotIn(b"Heard live", calendar_of(self.scene.ossian.student))
        self.assertEqual(calendar_of(self.scene.teacher).count(b"Heard live"), 1)
