"""The next step on the desk: what is proposed, and what a decision does to the task."""

from __future__ import annotations

from datetime import timedelta

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Assignment, Task, TaskState
from didactor.review.checklist import checklist_of
from didactor.review.deciding import facts_of, history_of, proposal_for, proposal_shown
from didactor.review.models import Review
from didactor.review.services import Draft, ReviewRefused, amend, open_review, send
from didactor.takes.models import Take
from didactor.takes.services import submit_take
from tests import scene as scenes

FAULTS = tuple({"kind": "wrong", "bar": "6", "beat": beat, "semitones": 2} for beat in (0.0, 1.0, 2.0))


class DecidingScene(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(listen_first=False, ladder=[60, 76])
        self.task = self.scene.task
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def handed_in(self, *faults: dict) -> Take:
        take = scenes.recorded(self.scene, *faults)
        submit_take(take=take)
        return Take.objects.get(pk=take.pk)

    def review(self, *faults: dict) -> Review:
        return open_review(submission=self.handed_in(*faults).submission, teacher=self.scene.teacher)

    def decide(self, review: Review, **draft: object) -> Task:
        send(review=review, draft=Draft(**draft))
        return Task.objects.get(pk=self.task.pk)


class ProposalTests(DecidingScene):
    def test_faults_in_one_place_are_a_shorter_segment(self):
        take = self.handed_in(*FAULTS)
        facts = facts_of(take)
        self.assertEqual(facts.faults, {"6": 3})
        self.assertGreater(facts.judged, 20)
        found = proposal_for(take)
        self.assertEqual((found.next, found.bars), ("shorter", "6"))
        page = self.client.get(reverse("review:detail", args=[take.submission.pk]))
        self.assertContains(page, "All faults lie in bar 6")
        self.assertContains(page, "data-accept")

    def test_without_a_fault_it_is_passed(self):
        self.assertEqual(proposal_for(self.handed_in()).next, "passed")

    def test_on_a_rung_below_the_target_the_next_one_follows(self):
        Task.objects.filter(pk=self.task.pk).update(tempo=60.0)
        take = self.handed_in()
        Take.objects.filter(pk=take.pk).update(basis={**take.basis, "targets": {**take.basis["targets"], "tempo_qpm": 60.0}})
        summary = take.latest_analysis
        summary.summary["played_qpm"] = 60.0
        summary.save()
        shown = proposal_shown(Take.objects.get(pk=take.pk))
        self.assertEqual(shown["title"], "On to the next, at 76")

    def test_only_takes_up_to_the_one_in_question_speak(self):
        first = self.handed_in(*FAULTS)
        second = scenes.recorded(self.scene)
        self.assertEqual(len(history_of(self.task, until=first).takes), 1)
        self.assertEqual([t.count for t in history_of(self.task, until=second).takes], [3, 0])

    def test_nothing_is_proposed_for_what_was_sent(self):
        review = self.review()
        self.decide(review, decision="passed")
        self.assertNotContains(self.client.get(reverse("review:detail", args=[review.submission_id])), "data-accept")


class ChecklistTests(DecidingScene):
    def rows(self, *faults: dict) -> dict:
        review = self.review(*faults)
        take = review.submission.take
        return {row.slug: row for row in checklist_of(take, review, take.latest_analysis.heard)}

    def test_figures_say_what_they_can_know_with_a_proof_to_hear(self):
        rows = self.rows(*FAULTS)
        self.assertEqual((rows["notes"].heard, rows["tempo"].heard, rows["rhythm"].heard), ("mend", "good", "good"))
        self.assertIsNotNone(rows["notes"].proof)
        self.assertIn("Bar 6", rows["notes"].because)
        self.assertEqual((rows["tone"].heard, rows["expression"].heard), ("", ""), "only an ear can know")
        self.assertTrue(all(row.verdict == "" for row in rows.values()), "nothing is said for the teacher")

    def test_a_row_of_the_teacher_s_is_checked_by_the_figure_chosen_for_it(self):
        Assignment.objects.update(own_rows=["Right keys", "Breath"], own_row_figures={"Right keys": "notes"})
        rows = self.rows(*FAULTS)
        self.assertEqual((rows["own:Right keys"].heard, rows["own:Breath"].heard), ("mend", ""))

    def test_without_a_result_nothing_is_proposed(self):
        review = self.review()
        self.assertEqual({row.heard for row in checklist_of(review.submission.take, review, None)}, {""})


class DecisionTests(DecidingScene):
    def test_a_shorter_segment_stands_on_the_stand_before_the_task(self):
        due = self.task.due_at
        task = self.decide(self.review(*FAULTS), decision="shorter", decision_bars="5-6", decision_tempo=76.0, decision_minutes=8)
        way = Assignment.objects.get(leads_to=task)
        given = way.tasks.get()
        self.assertEqual((way.title, way.tempo, way.minutes, given.passage.bars), ("Test tune, whole, bars 5–6", 76.0, 8, "5-6"))
        self.assertEqual(given.enrolment, self.scene.ylva)
        self.assertEqual((task.state, task.tempo), (TaskState.ANSWERED, None))
        self.assertGreater(task.due_at, due + timedelta(days=6))
        self.assertLess(way.due_at, task.due_at)
        self.client.force_login(self.scene.ylva.student)
        page = self.client.get(reverse("stand:index")).content.decode()
        self.assertLess(page.index("bars 5–6"), page.index(f'href="{reverse("task", args=[task.pk])}"'))

    def test_another_step_first(self):
        task = self.decide(self.review(*FAULTS), decision="step", decision_step="clap", decision_bars="5-6")
        way = Assignment.objects.get(leads_to=task)
        self.assertEqual((way.step, way.tasks.get().passage.bars), ("clap", "5-6"))

    def test_slower_and_the_next_rung_change_the_tempo(self):
        review = self.review(*FAULTS)
        self.assertEqual(self.decide(review, decision="slower", decision_tempo=70.0).tempo, 70.0)
        review = open_review(submission=self.handed_in().submission, teacher=self.scene.teacher)
        task = self.decide(review, decision="next", decision_tempo=84.0)
        self.assertEqual((task.tempo, task.state), (84.0, TaskState.ANSWERED))

    def test_passed_and_next_without_a_faster_tempo_are_over(self):
        self.assertEqual(self.decide(self.review(), decision="next").state, TaskState.PASSED)

    def test_to_stay_is_a_week_and_once_more_at_least_some_days(self):
        due = self.task.due_at
        self.assertEqual(self.decide(self.review(*FAULTS), decision="stay").due_at, due + timedelta(days=7))
        Assignment.objects.update(due_at=timezone.now() - timedelta(days=2))
        Task.objects.update(own_due_at=None)
        review = open_review(submission=self.handed_in().submission, teacher=self.scene.teacher)
        task = self.decide(review, decision="once_more")
        self.assertFalse(task.is_late)
        self.assertGreater(task.due_at, timezone.now() + timedelta(days=2))

    def test_what_is_needed_is_asked_for_and_nothing_is_sent_without(self):
        review = self.review(*FAULTS)
        for draft, words in (
            ({"decision": "shorter"}, "which bars"),
            ({"decision": "step"}, "which step"),
            ({"decision": "slower"}, "which tempo"),
            ({"decision": "shorter", "decision_bars": "90-99"}, "90"),
            ({"decision": "shorter", "decision_bars": "5-6", "decision_tempo": 5.0}, "tempo"),
        ):
            with self.assertRaises(ReviewRefused) as caught:
                send(review=review, draft=Draft(**draft))
            self.assertIn(words, str(caught.exception).lower())
        self.assertIsNone(Review.objects.get(pk=review.pk).sent_at)
        self.assertFalse(Assignment.objects.exclude(pk=self.scene.assignment.pk).exists())

    def test_an_amended_decision_takes_back_what_it_gave(self):
        review = self.review(*FAULTS)
        task = self.decide(review, decision="shorter", decision_bars="5-6")
        first = Assignment.objects.get(leads_to=task)
        review = Review.objects.get(pk=review.pk)
        amend(review=review, teacher=self.scene.teacher, draft=Draft(decision="shorter", decision_bars="6-7"))
        self.assertIsNotNone(first.tasks.get().withdrawn_at)
        self.assertEqual(Review.objects.get(pk=review.pk).way.tasks.get().passage.bars, "6-7")
        amend(review=Review.objects.get(pk=review.pk), teacher=self.scene.teacher, draft=Draft(decision="passed"))
        self.assertIsNone(Review.objects.get(pk=review.pk).way)
        self.assertEqual(Task.objects.filter(assignment__leads_to=task, withdrawn_at=None).count(), 0)

    def test_sent_twice_it_is_given_once(self):
        review = self.review(*FAULTS)
        for _ in range(2):
            self.decide(review, decision="shorter", decision_bars="5-6")
        self.assertEqual(Assignment.objects.filter(leads_to=self.task).count(), 1)

    def test_the_form_sends_bars_step_and_minutes(self):
        review = self.review(*FAULTS)
        fields = {"decision": "shorter", "decision_bars": "5 – 6", "decision_tempo": "76", "decision_minutes": "9", "version": "0"}
        self.client.post(reverse("review:send", args=[review.submission_id]), fields)
        review.refresh_from_db()
        self.assertEqual((review.decision_bars, review.decision_tempo, review.decision_minutes), ("5-6", 76.0, 9))
        page = self.client.get(reverse("review:detail", args=[review.submission_id]))
        self.assertContains(page, "It stands on the stand as")

    def test_what_was_refused_stays_in_the_fields(self):
        review = self.review(*FAULTS)
        fields = {"decision": "shorter", "decision_bars": "90-99", "decision_minutes": "9", "version": "0"}
        page = self.client.post(reverse("review:send", args=[review.submission_id]), fields)
        self.assertContains(page, 'value="90-99"', status_code=409)
