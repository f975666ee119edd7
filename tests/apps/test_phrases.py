"""A teacher's phrases: what was written before is offered again, for any bar."""

from __future__ import annotations

from django.test import TestCase
from django.urls import reverse

from didactor.review.models import Mark
from didactor.review.phrases import phrases_of
from didactor.review.services import add_remark, open_review
from didactor.takes.services import submit_take
from tests import scene as scenes


class PhraseTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        submit_take(take=take)
        self.review = open_review(submission=take.submission, teacher=self.scene.teacher)

    def say(self, text: str, category: str = "tone", bar: str = "") -> None:
        add_remark(review=self.review, category=category, text=text, bar=bar)

    def test_the_most_used_come_first_and_hold_for_any_bar(self):
        self.say("Breathe before bar 5, then go on.", "flow")
        self.say("Thumb under the second finger.", "hands")
        self.say("Breathe before bar 12, then go on.", "flow")
        first, second = phrases_of(self.scene.teacher)
        self.assertEqual((first.text, first.used, first.category), ("Breathe before bar {bar}, then go on.", 2, "flow"))
        self.assertEqual(second.text, "Thumb under the second finger.")

    def test_what_the_machine_heard_and_a_word_or_two_are_no_phrases(self):
        self.say("Nice.")
        self.assertTrue(Mark.objects.filter(origin="heard").exists())
        self.assertEqual(phrases_of(self.scene.teacher), [])

    def test_each_teacher_has_their_own(self):
        self.say("Thumb under the second finger.", "hands")
        self.assertEqual(phrases_of(scenes.teacher("Inner dark", "stranger")), [])

    def test_the_desk_offers_them_until_the_answer_is_sent(self):
        self.say("Thumb under the second finger.", "hands")
        url = reverse("review:detail", args=[self.review.submission_id])
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.assertContains(self.client.get(url), '<option value="Thumb under the second finger." data-category="hands">')
        self.client.post(reverse("review:send", args=[self.review.submission_id]), {"decision": "passed", "version": "0"})
        self.assertNotContains(self.client.get(url), "<datalist")
