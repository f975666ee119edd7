"""Sheets on paper: who gets which, what stands on them, and that nothing is fetched for them."""

from __future__ import annotations

from datetime import date, timedelta
from unittest import mock

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone
from lxml import etree

from didactor.assignments.models import Assignment
from didactor.progress.paper import drawn_on_paper
from didactor.progress.printing import OwnFiles, printed
from didactor.progress.sheets import answer_sheet, term_sheet
from didactor.review.models import Review
from didactor.review.services import Draft, open_review, send
from didactor.takes.permissions import sight_of
from didactor.takes.services import submit_take
from tests import scene as scenes


class PaperTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.take = scenes.recorded(cls.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        cls.review = open_review(submission=submit_take(take=cls.take), teacher=cls.scene.teacher)
        cls.url = reverse("answer_paper", args=[cls.take.pk])

    def sign_in(self, person) -> None:
        kind = "Password" if person.is_teacher else "Card"
        self.client.force_login(person, backend=f"didactor.people.backends.{kind}Backend")

    def sent(self) -> Review:
        send(review=self.review, draft=Draft(decision="passed", text="Well <rolled>."))
        return Review.objects.get()

    def test_only_what_was_sent_and_only_for_those_it_is_for(self):
        self.sign_in(self.scene.ylva.student)
        self.assertEqual(self.client.get(self.url).status_code, 404, "a draft is nobody’s sheet")
        self.sent()
        for person, status in (
            (self.scene.ylva.student, 200),
            (self.scene.teacher, 200),
            (self.scene.ossian.student, 404),
            (self.scene.guardian, 404),
            (scenes.teacher("Elsewhere", "elsa"), 404),
        ):
            self.sign_in(person)
            answer = self.client.get(self.url)
            self.assertEqual(answer.status_code, status, person)
        self.sign_in(self.scene.ylva.student)
        answer = self.client.get(self.url)
        self.assertEqual((answer["Content-Type"], answer.content[:5]), ("application/pdf", b"%PDF-"))
        self.assertIn("attachment", answer["Content-Disposition"])

    def test_what_was_heard_is_drawn_only_for_who_sees_it_on_the_page(self):
        review = self.sent()
        for sees, drawn, played in (("remarks", 0, ""), ("marks", 1, ""), ("figures", 1, "92")):
            Assignment.objects.update(students_see=sees)
            take = type(self.take).objects.get(pk=self.take.pk)
            review.submission.take = take
            sheet = answer_sheet(review, sight_of(take, self.scene.ylva.student))
            marks = etree.fromstring(sheet["drawing"]).xpath("//*[contains(@class, 'ghost')]")
            self.assertEqual((min(1, len(marks)), sheet["played"]), (drawn, played), sees)

    def test_a_drawing_for_paper_stands_alone(self):
        review = self.sent()
        drawing = answer_sheet(review, sight_of(self.take, self.scene.teacher))["drawing"]
        root = etree.fromstring(drawing)
        self.assertEqual(len(root.xpath("//*[local-name()='svg']")), 1)
        style = root.xpath("string(//*[local-name()='style'])")
        for unknown in ("var(", "color-mix", ":hover", "@media", "transparent"):
            self.assertNotIn(unknown, style)
        self.assertIn("circle.missed", style)
        inner = drawn_on_paper(
            '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 10 5"><svg viewBox="1 2 20 10"><path d="M0,0"/></svg></svg>'
        )
        self.assertIn('transform="scale(0.500000) translate(-1,-2)"', inner)

    def test_nothing_is_fetched(self):
        for url in ("http://127.0.0.1/x", "file:///etc/passwd", "own:../../etc/passwd", "own:vendor/../../x", "own:vendor/nothing.woff2"):
            with self.assertRaises(ValueError, msg=url):
                OwnFiles().fetch(url)
        self.assertTrue(OwnFiles().fetch("own:vendor/spectral-latin-400-normal.woff2").read(4) == b"wOF2")
        with mock.patch("socket.socket.connect", side_effect=AssertionError("the network")):
            self.assertTrue(printed('<img src="http://192.0.2.1/a.png"><p>x</p>', "").startswith(b"%PDF"))

    def test_a_term_has_what_was_passed_in_it_and_what_is_at_work(self):
        student, today = self.scene.ylva.student, timezone.localdate()
        before = term_sheet(student, today - timedelta(days=30), today)
        self.assertEqual((before["passed"], [str(task.assignment) for task in before["at_work"]]), ([], ["Test tune, whole"]))
        review = self.sent()
        during = term_sheet(student, today, today)
        self.assertEqual((during["passed"], during["words"], list(during["at_work"])), ([review], [review], []))
        self.assertEqual(term_sheet(student, date(2020, 1, 1), date(2020, 6, 1))["passed"], [])

    def test_a_term_is_asked_for_by_its_days(self):
        self.sign_in(self.scene.teacher)
        url = reverse("progress:term_paper", args=[self.scene.ylva.student.pk])
        for days in (
            {"from_day": "2026-05-01", "to_day": "2026-04-01"},
            {"from_day": "²", "to_day": "2026-04-01"},
            {"from_day": "2026-05-01"},
        ):
            self.assertContains(self.client.get(url, days, follow=True), "Write both days")
        for days in ({}, {"from_day": "2020-01-01", "to_day": "2020-06-01"}):
            self.assertEqual(self.client.get(url, days).content[:5], b"%PDF-")
