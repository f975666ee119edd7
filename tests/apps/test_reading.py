"""What pages gather: rows of tasks, the frozen basis, states of a task and who counts as late."""

from __future__ import annotations

from datetime import timedelta

from django.core.cache import cache
from django.test import TestCase
from django.utils import timezone

from didactor.assignments.models import Task, TaskState
from didactor.assignments.services import frozen_basis, move_task
from didactor.core.score.write.engraving import ACROSS, BESIDE
from didactor.library.drawings import plain_drawings
from didactor.library.models import Engraving
from didactor.progress.rows import task_rows
from didactor.review.services import Draft, open_review, save_draft, send
from didactor.stand.pages import task_page
from didactor.takes.listening import passage_of, player_data
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import silence


class ReadingTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)

    def row(self):
        return task_rows(Task.objects.filter(pk=self.scene.task.pk).for_lists())[0]

    def test_a_row_follows_the_task_from_open_to_answered(self):
        self.assertEqual((self.row().take, list(self.row().strip), self.row().played), (None, [], ""))
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        self.assertEqual([c.number for c in self.row().strip if c.worst], ["6"])
        self.assertEqual(self.row().played, "92")
        submission = submit_take(take=take)
        review = open_review(submission=submission, teacher=self.scene.teacher)
        self.assertIsNone(self.row().review, "a draft is not an answer")
        save_draft(review=review, draft=Draft(text="", decision="once_more", decision_tempo=None))
        send(review=review)
        self.assertEqual(self.row().review.decision, "once_more")
        # A newer take that was not sent does not hide the answered one.
        scenes.recorded(self.scene, hear=False, data=silence())
        self.assertEqual(self.row().take, take)

    def test_the_page_of_a_task_says_why_nothing_can_be_recorded(self):
        ossian = self.scene.ossian.student
        page = task_page(Task.objects.for_lists().get(pk=self.scene.other_task.pk), ossian)
        self.assertIn("consent", page["refusal"])
        page = task_page(Task.objects.for_lists().get(pk=self.scene.task.pk), self.scene.guardian)
        self.assertIn("Only the student", page["refusal"])

    def test_a_take_keeps_the_passage_it_was_judged_against(self):
        take = scenes.recorded(self.scene, hear=False)
        task = self.scene.task
        other = task.passage
        other.pk, other.bars, other.arranged_from = None, "1-2", None
        other.save()
        task.passage = other
        task.save()
        self.assertEqual(passage_of(take).bars, "0-8")
        self.assertEqual(frozen_basis(self.scene.task)["bars"], "1-2")

    def test_the_player_knows_when_each_note_and_bar_sounds(self):
        take = scenes.recorded(self.scene)
        data = player_data(take, take.heard)
        times = [time for _, _, time in data["bars"]]
        self.assertEqual([bar for bar, _, _ in data["bars"]], [str(n) for n in range(9)])
        self.assertEqual(times, sorted(times))
        self.assertTrue(all(onset < offset for _, _, onset, offset in data["notes"]))

    def test_a_passage_is_engraved_once_for_every_layout(self):
        for layouts in (ACROSS, BESIDE):
            self.assertEqual(tuple(plain_drawings(self.scene.passage, layouts)), layouts)
        count = Engraving.objects.count()
        cache.clear()
        drawings = plain_drawings(self.scene.passage, BESIDE)
        self.assertIn('class="score', drawings["beside"])
        self.assertEqual(Engraving.objects.count(), count)

    def test_states_follow_their_ways(self):
        task = self.scene.task
        with self.assertRaisesMessage(ValueError, "cannot go from open to passed"):
            move_task(task, TaskState.PASSED)
        move_task(task, TaskState.OPEN)
        move_task(task, TaskState.IN_WORK)
        self.assertFalse(task.is_late)
        task.assignment.due_at = timezone.now() - timedelta(hours=1)
        self.assertTrue(task.is_late)
        move_task(task, TaskState.HANDED_IN)
        self.assertFalse(task.is_late)
