"""One answer to several takes."""

from __future__ import annotations

from django.test import TestCase
from django.urls import reverse

from didactor.assignments.models import Task
from didactor.people.services import record_consent
from didactor.review.models import Review
from didactor.review.services import add_remark, open_review
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Submission
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import wav


class AtOnceTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        first = scenes.recorded(cls.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        record_consent(student=cls.scene.ossian.student, given_by="His mother", recorded_by=cls.scene.teacher)
        second = scenes.recorded_by(cls.scene.other_task, wav(seed=8, instrument="violin"))
        analyse_take(take_id=second.pk)
        second.refresh_from_db()
        cls.both = [submit_take(take=take).pk for take in (first, second)]

    def setUp(self):
        self.client.force_login(self.scene.teacher)

    def send(self, chosen: list[int] | None = None, **fields: object):
        sent = {"take": self.both if chosen is None else chosen, "decision": "passed", "text": "Well counted.", **fields}
        return self.client.post(reverse("review:at_once"), sent)

    def test_each_gets_its_own_and_what_was_heard_goes_with_it_where_that_is_ticked(self):
        self.send(keep="on")
        reviews = list(Review.objects.all())
        self.assertEqual([(r.text, r.decision, r.sent_at is not None) for r in reviews], [("Well counted.", "passed", True)] * 2)
        self.assertTrue(Review.objects.get(submission=self.both[0]).marks.filter(standing="kept").exists())
        self.assertEqual(set(Task.objects.values_list("state", flat=True)), {"passed"})

    def test_without_it_nothing_heard_is_sent(self):
        self.send()
        self.assertFalse(Review.objects.get(submission=self.both[0]).marks.filter(standing="kept").exists())

    def test_what_was_begun_is_left_as_it_is(self):
        begun = open_review(submission=Submission.objects.get(pk=self.both[0]), teacher=self.scene.teacher)
        add_remark(review=begun, category="tone", text="Warmer.")
        answer = self.client.get(self.send().url)
        self.assertContains(answer, "Left as they are")
        begun.refresh_from_db()
        self.assertEqual((begun.sent_at, begun.text), (None, ""))
        self.assertEqual(Review.objects.exclude(sent_at=None).count(), 1)

    def test_refused_with_what_was_typed_still_there(self):
        for fields in ({"decision": "slower"}, {"decision": ""}, {"chosen": []}):
            answer = self.send(**fields)
            self.assertContains(answer, "Well counted.", status_code=422)
        self.assertContains(self.send(decision=""), f'value="{self.both[0]}" aria-label', status_code=422)
        self.assertFalse(Review.objects.exclude(sent_at=None).exists())

    def test_sent_twice_and_by_somebody_else_it_does_nothing_more(self):
        self.client.force_login(scenes.teacher("Inner dark", "stranger"))
        self.assertEqual(self.send().status_code, 422)
        self.client.force_login(self.scene.teacher)
        self.send()
        self.assertEqual(self.send(text="Again").status_code, 422)
        self.assertEqual(set(Review.objects.values_list("text", flat=True)), {"Well counted."})
