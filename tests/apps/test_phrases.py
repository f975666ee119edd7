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

    def say(self, text: str, category: str = "tone", bar: str = "", note_id: str = "") -> None:
        add_remark(review=self.review, category=category, text=text, bar=bar, note_id=note_id)

    def test_the_most_used_come_first_and_hold_for_any_bar(self):
        self.say("Breathe before bar 5, then go on.", "flow")
        self.say("Thumb under the second finger.", "hands")
        self.say("Breathe before bar 12, then go on.", "flow")
        first, second = phrases_of(self.scene.teacher)
        self.assertEqual((first.text, first.used, first.category), ("Breathe before bar {bar}, then go on.", 2, "flow"))
        self.assertEqual(second.text, "Thumb under the second finger.")

    def test_note_tempo_and_finger_are_left_open_too(self):
        for text, note_id, wanted in (
            ("F♯ is too low, cover the hole.", "n1-2-0-1-Fs5", "{note} is too low, cover the hole."),
            ("The F sharp is too low.", "n1-2-0-1-Fs5", "The {note} is too low."),
            ("F is fine, F♯ is not.", "n1-2-0-1-Fs5", "F is fine, {note} is not."),
            ("A little slower here, please.", "n1-7-0-1-A4", "A little slower here, please."),
            ("Go on at 72 until Friday.", "", "Go on at {tempo} until Friday."),
            ("Begin with finger 3 on E.", "n1-6-0-1-E5", "Begin with finger {finger} on {note}."),
            ("Every E of Bar 7 like this.", "n1-6-0-1-E5", "Every {note} of Bar {bar} like this."),
        ):
            Mark.objects.all().delete()
            self.say(text, note_id=note_id)
            self.assertEqual([phrase.text for phrase in phrases_of(self.scene.teacher)], [wanted])

    def test_what_the_machine_heard_and_a_word_or_two_are_no_phrases(self):
        self.say("Nice.")
        self.assertTrue(Mark.objects.filter(origin="heard").exists())
        self.assertEqual(phrases_of(self.scene.teacher), [])

    def test_each_teacher_has_their_own(self):
        self.say("Thumb under the second finger.", "hands")
        self.assertEqual(phrases_of(scenes.teacher("Inner dark", "stranger")), [])

    def test_the_desk_offers_them_until_the_answer_is_sent(self):
        self.say("Thumb under the second finger.", "hands")
        url = reverse("review:alongside", args=[self.review.submission_id])
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.assertContains(self.client.get(url), '<option value="Thumb under the second finger." data-category="hands">')
        self.client.post(reverse("review:send", args=[self.review.submission_id]), {"decision": "passed", "version": "0"})
        self.assertNotContains(self.client.get(url), "Thumb under")
