"""A teacher’s own scale of marks, rows that could not be heard, and the term’s answers as a table."""

from __future__ import annotations

import csv
import io

from django.test import TestCase
from django.urls import reverse

from didactor.review.models import Review
from didactor.review.services import Draft, ReviewRefused, open_review, save_draft, send, set_scale, steps_of
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import tone


class ScaleTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.take = scenes.recorded(cls.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        cls.submission = submit_take(take=cls.take)
        cls.review = open_review(submission=cls.submission, teacher=cls.scene.teacher)
        cls.url = reverse("review:detail", args=[cls.submission.pk])

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def scale(self, steps: str):
        return self.client.post(reverse("review:set_scale"), {"steps": steps}, follow=True)

    def test_who_gives_none_is_not_asked(self):
        self.assertNotContains(self.client.get(self.url), 'name="grade"')

    def test_a_scale_in_the_teacher_s_own_words_and_order(self):
        self.scale(" fine, good,, good , once more ")
        self.assertEqual(steps_of(self.scene.teacher), ["fine", "good", "once more"])
        self.assertContains(self.client.get(self.url), "<option>once more</option>", html=True)
        self.scale("")
        self.assertEqual(steps_of(self.scene.teacher), [])

    def test_too_many_or_too_long_is_refused_and_the_old_one_stays(self):
        self.scale("1, 2")
        for steps in (",".join(map(str, range(25))), "x" * 21):
            self.assertContains(self.scale(steps), "at most 24 marks")
        self.assertEqual(steps_of(self.scene.teacher), ["1", "2"])

    def test_a_mark_goes_with_the_answer_and_only_one_of_the_scale(self):
        set_scale(teacher=self.scene.teacher, steps=["1", "2"])
        with self.assertRaises(ReviewRefused):
            save_draft(review=self.review, draft=Draft(grade="3"))
        save_draft(review=self.review, draft=Draft(decision="passed", grade="2"))
        set_scale(teacher=self.scene.teacher, steps=["A", "B"])
        self.assertContains(self.client.get(self.url), '<option selected="">2</option>', html=True)
        send(review=self.review, draft=Draft(decision="passed", grade="2"))
        self.assertEqual(Review.objects.get().grade, "2")
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.CardBackend")
        self.assertContains(self.client.get(reverse("stand:take", args=[self.take.pk])), "Mark: <b>2</b>")

    def test_a_row_that_could_not_be_heard_is_said_to_be_so(self):
        page = self.client.get(self.url)
        rows = {row.slug: row for row in page.context["checklist"]}
        self.assertEqual((rows["notes"].heard, rows["tone"].heard), ("mend", ""))
        self.assertEqual(rows["dynamics"].heard, "unheard")
        self.assertIn("Could not be judged", rows["dynamics"].because)
        draft = Draft(decision="passed", checklist={"dynamics": "unheard", "tone": "loud", "notes": "mend"})
        send(review=self.review, draft=draft)
        review = Review.objects.get()
        self.assertEqual((review.unheard, review.to_mend, review.good), (["Dynamics"], ["Notes"], []))
        self.assertContains(self.client.get(self.url), "Not heard: dynamics.")

    def test_the_term_s_answers_are_a_table(self):
        set_scale(teacher=self.scene.teacher, steps=["1"])
        url = reverse("progress:marks_file", args=[self.scene.ylva.group_id])
        read = lambda: list(csv.DictReader(io.StringIO(self.client.get(url).content.decode("utf-8-sig"))))  # noqa: E731
        self.assertEqual(read(), [], "a draft is nobody’s mark yet")
        send(review=self.review, draft=Draft(decision="once_more", grade="1"))
        [row] = read()
        self.assertEqual((row["student"], row["decision"], row["mark"], row["take"]), ("Ylva", "Once more", "1", "1"))
        scenes.recorded(self.scene, hear=False, data=tone(1.1))
        self.assertEqual(len(read()), 1)
