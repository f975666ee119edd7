"""The teacher's answer: proposals, remarks, a decision, and nothing before it is sent."""

from __future__ import annotations

from django.test import TestCase
from django.urls import reverse

from didactor.assignments.models import Assignment, Series, Task, TaskState
from didactor.library.models import ModelSound
from didactor.practice.models import Attempt
from didactor.review.models import Review, Standing
from didactor.review.services import Draft, ReviewRefused, add_remark, amend, decide_mark, keep_all, open_review, save_draft, send
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take
from didactor.takes.services import OwnMark, review_own_take, submit_take
from tests import scene as scenes
from tests.music import wav


class ReviewTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        faults = ({"kind": "wrong", "bar": "6", "beat": 0.0}, {"kind": "hesitation", "bar": "5", "beat": 0.0, "beats": 2.0})
        take = scenes.recorded(cls.scene, *faults)
        review_own_take(take=take, marks=[OwnMark(category="flow", verdict="mend", bar="5", text="I stopped")], work_on="going on")
        cls.submission = submit_take(take=Take.objects.get(pk=take.pk))
        cls.review = open_review(submission=cls.submission, teacher=cls.scene.teacher)

    def student_page(self) -> str:
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.PasswordBackend")
        return self.client.get(reverse("stand:take", args=[self.submission.take_id])).content.decode()

    def test_findings_come_as_proposals_once(self):
        self.assertEqual(
            [(m.code, m.standing) for m in self.review.marks.all()], [("notes.wrong", "proposed"), ("flow.hesitation", "proposed")]
        )
        open_review(submission=self.submission, teacher=self.scene.teacher)
        self.assertEqual(self.review.marks.count(), 2)

    def test_only_what_was_kept_reaches_the_student_and_only_when_sent(self):
        first, second = self.review.marks.all()
        decide_mark(mark=first, standing="kept", text="In bar 6 you carried on the pattern of bar 5.")
        decide_mark(mark=second, standing="dropped")
        add_remark(review=self.review, category="tone", text="A warm low register.", bar="7")
        save_draft(
            review=self.review, draft=Draft(text="Well held.", decision="once_more", decision_tempo=80.0, checklist={"tone": "good"})
        )
        self.assertNotIn("carried on the pattern", self.student_page())
        self.assertNotIn("Well held", self.student_page())
        send(review=self.review)
        page = self.student_page()
        for words in ("carried on the pattern", "A warm low register", "Well held.", "Once more, at 80", "Good: tone."):
            self.assertIn(words, page)
        self.assertEqual(self.scene.task.state, TaskState.ANSWERED)

    def test_open_proposals_are_left_out_and_a_sent_answer_stays(self):
        save_draft(review=self.review, draft=Draft(text="", decision="passed", decision_tempo=None))
        send(review=self.review)
        send(review=Review.objects.get(pk=self.review.pk))
        self.assertEqual(set(self.review.marks.values_list("standing", flat=True)), {Standing.DROPPED})
        self.assertEqual(self.scene.task.state, TaskState.PASSED)
        review = Review.objects.get(pk=self.review.pk)
        for change in (lambda: keep_all(review=review), lambda: add_remark(review=review, category="notes", text="x")):
            with self.assertRaisesMessage(ReviewRefused, "sent already"):
                change()

    def test_a_second_tab_is_never_told_that_its_change_was_sent(self):
        first = Draft(text="Well held.", decision="passed")
        send(review=self.review, draft=first)
        send(review=self.review, draft=first)
        with self.assertRaisesMessage(ReviewRefused, "sent already"):
            send(review=self.review, draft=Draft(text="Once more, please.", decision="once_more"))
        with self.assertRaisesMessage(ReviewRefused, "sent already"):
            save_draft(review=self.review, draft=Draft(text="late"))
        self.assertEqual(Review.objects.get(pk=self.review.pk).text, "Well held.")
        self.assertEqual(self.scene.task.state, TaskState.PASSED)

    def test_a_draft_over_an_older_state_is_refused_and_nothing_is_lost(self):
        kept = save_draft(review=self.review, draft=Draft(text="one", version=0))
        self.assertEqual(kept.version, 1)
        with self.assertRaisesMessage(ReviewRefused, "changed meanwhile"):
            save_draft(review=self.review, draft=Draft(text="two", version=0))
        self.assertEqual(save_draft(review=self.review, draft=Draft(text="two", version=1)).text, "two")

    def test_a_sent_answer_is_amended_openly(self):
        send(review=self.review, draft=Draft(text="Well held.", decision="passed"))
        with self.assertRaisesMessage(ReviewRefused, "what happens next"):
            amend(review=self.review, teacher=self.scene.teacher, draft=Draft(text="x"))
        amend(review=self.review, teacher=self.scene.teacher, draft=Draft(text="Bar 6 first.", decision="once_more", decision_tempo=54.0))
        review = Review.objects.get(pk=self.review.pk)
        [former] = review.former.all()
        self.assertEqual((former.said["text"], former.decision_title), ("Well held.", "Passed"))
        self.assertEqual((self.scene.task.state, self.scene.task.tempo), (TaskState.ANSWERED, 54.0))
        page = self.student_page()
        self.assertIn("Bar 6 first.", page)
        self.assertIn("Amended on", page)
        with self.assertRaisesMessage(ReviewRefused, "changed meanwhile"):
            amend(review=review, teacher=self.scene.teacher, draft=Draft(text="y", decision="stay", version=0))

    def test_an_amended_answer_does_not_take_back_what_came_after(self):
        send(review=self.review, draft=Draft(decision="once_more"))
        scenes.recorded(self.scene, hear=False)
        amend(review=self.review, teacher=self.scene.teacher, draft=Draft(decision="passed"))
        self.assertEqual(self.scene.task.state, TaskState.IN_WORK)
        with self.assertRaisesMessage(ReviewRefused, "not sent yet"):
            other = open_review(submission=self.submission, teacher=self.scene.teacher)
            Review.objects.filter(pk=other.pk).update(sent_at=None)
            amend(review=other, teacher=self.scene.teacher, draft=Draft(decision="passed"))

    def test_a_decision_changes_what_is_asked(self):
        with self.assertRaisesMessage(ReviewRefused, "at which tempo"):
            send(review=self.review, draft=Draft(decision="slower"))
        with self.assertRaisesMessage(ReviewRefused, "not playable"):
            send(review=self.review, draft=Draft(decision="slower", decision_tempo=4.0))
        self.assertIsNone(Review.objects.get(pk=self.review.pk).sent_at, "what was refused is not half sent")
        send(review=self.review, draft=Draft(decision="slower", decision_tempo=54.0))
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.PasswordBackend")
        page = self.client.get(reverse("task", args=[self.scene.task.pk]))
        self.assertEqual(page.context["recorder"]["tempo"], 54.0)
        self.assertContains(page, "quarter = 54")
        stand = self.client.get(reverse("stand:play", args=[self.scene.task.pk]))
        self.assertContains(stand, '"asked": 54')
        self.assertTrue(ModelSound.objects.filter(passage=self.scene.task.passage, tempo_qpm=54, count_off=0).exists())
        self.assertContains(self.client.get(reverse("stand:index")), "Slower, at 54")
        self.assertEqual(scenes.recorded(self.scene, hear=False).basis["targets"]["tempo_qpm"], 54.0)

    def test_what_was_asked_is_shown_as_it_was(self):
        self.scene.assignment.tempo = 120.0
        self.scene.assignment.save()
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        for url in (reverse("review:waiting"), reverse("review:detail", args=[self.submission.pk])):
            page = self.client.get(url).content.decode()
            self.assertRegex(page, r"quarter = 92|asked 92")
            self.assertNotRegex(page, r"quarter = 120|asked 120")

    def test_a_refused_answer_comes_back_with_what_was_typed(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        page = self.client.post(reverse("review:send", args=[self.submission.pk]), {"text": "Long words", "verdict-tone": "good"})
        self.assertContains(page, "Long words", status_code=409)
        self.assertContains(page, "what happens next", status_code=409)

    def test_four_sends_at_once_are_one(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        url = reverse("review:send", args=[self.submission.pk])
        for words, status in (("First.", 302), ("First.", 302), ("Second.", 409)):
            self.assertEqual(self.client.post(url, {"text": words, "decision": "passed"}).status_code, status)

    def test_a_script_is_told_where_to_go_on_and_what_was_sent(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        other = scenes.recorded_by(scenes.another(self.scene, "Tove"), wav(seed=21))
        analyse_take(take_id=other.pk)
        Assignment.objects.update(listen_first=False)
        following = submit_take(take=Take.objects.get(pk=other.pk))
        url, send_to = reverse("review:detail", args=[self.submission.pk]), reverse("review:send", args=[self.submission.pk])
        page = self.client.get(url)
        self.assertContains(page, f'data-next-page="{reverse("review:detail", args=[following.pk])}?after={self.submission.pk}"')
        laid = self.client.get(reverse("review:detail", args=[following.pk]), {"after": self.submission.pk})
        self.assertNotContains(laid, "data-next-page", msg_prefix="the one before will be answered by then")
        self.assertNotContains(laid, "autoplay")
        self.assertContains(laid, '<base target="_top">')
        refused = self.client.post(send_to, {"text": "Words", "laid": "1"})
        self.assertEqual((refused.status_code, refused["Content-Type"].split(";")[0]), (409, "text/html"))
        told = self.client.post(send_to, {"decision": "passed", "next": "1", "laid": "1"})
        to = reverse("review:detail", args=[following.pk])
        self.assertEqual(told.json(), {"to": f"{to}?heard", "said": "Sent: it is with Ylva.", "of": url})
        last = self.client.post(reverse("review:send", args=[following.pk]), {"decision": "passed", "next": "1", "laid": "1"})
        self.assertEqual(last.json(), {"to": reverse("review:waiting")})
        self.assertContains(self.client.get(reverse("review:waiting")), "Sent: it is with Tove.")

    def test_only_our_own_pages_hold_the_desk_in_a_frame(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        for url, rule, option in (
            (reverse("review:detail", args=[self.submission.pk]), "frame-ancestors 'self'", "SAMEORIGIN"),
            (reverse("review:waiting"), "frame-ancestors 'none'", "DENY"),
        ):
            page = self.client.get(url)
            self.assertIn(rule, page["Content-Security-Policy"])
            self.assertEqual(page["X-Frame-Options"], option)

    def test_the_desk_asks_the_database_no_more_than_it_must(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        send(review=self.review, draft=Draft(decision="once_more"))
        assignment, task = self.scene.assignment, Task.objects.get(pk=self.scene.task.pk)
        assignment.series = Series.objects.create(studio=assignment.studio, title="Three in a row")
        assignment.stage, assignment.first_kept = "first_reading", True
        assignment.save()
        Attempt.objects.create(task=task, stone="5-6", bars="5-6", tempo=60.0, ended=True)
        second = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        Take.objects.filter(pk=second.pk).update(picture="x.mp4", same_as=None)
        review_own_take(take=second, marks=[OwnMark(category="flow", verdict="good")], work_on="")
        url = reverse("review:detail", args=[submit_take(take=Take.objects.get(pk=second.pk)).pk])
        page = self.client.get(url)
        self.assertContains(page, "In the first take 2 things were heard to mend")
        # A later take of a first reading with a picture, in a series, practised stone by stone: 28 before.
        with self.assertNumQueries(12):
            self.client.get(url)

    def test_an_answer_needs_a_decision(self):
        with self.assertRaisesMessage(ReviewRefused, "what happens next"):
            send(review=self.review)

    def test_after_an_answer_the_student_may_record_again(self):
        save_draft(review=self.review, draft=Draft(text="", decision="once_more", decision_tempo=None))
        send(review=self.review)
        take = scenes.recorded(self.scene, hear=False)
        self.assertEqual((take.number, self.scene.task.state), (2, TaskState.IN_WORK))

    def test_the_guardian_sees_the_ward_and_nobody_else(self):
        self.client.force_login(self.scene.guardian, backend="didactor.people.backends.PasswordBackend")
        page = self.client.get(reverse("stand:index")).content.decode()
        self.assertIn("Ossian", page)
        self.assertNotIn("Ylva", page)
        self.assertEqual(self.client.get(reverse("stand:take", args=[self.submission.take_id])).status_code, 404)


class ListTests(scenes.OwnFolders, TestCase):
    def test_lists_take_the_same_queries_however_long(self):
        scene = scenes.build(listen_first=False)
        submit_take(take=scenes.recorded(scene))
        self.client.force_login(scene.teacher, backend="didactor.people.backends.PasswordBackend")
        for url in (reverse("review:waiting"), reverse("assignment", args=[scene.assignment.pk]), reverse("people:students")):
            self.client.get(url)
            with self.assertNumQueries(self._count(url)):
                self.client.get(url)
            self.assertLessEqual(self._count(url), 12)

    def _count(self, url: str) -> int:
        from django.db import connection
        from django.test.utils import CaptureQueriesContext

        with CaptureQueriesContext(connection) as queries:
            self.client.get(url)
        return len(queries)
