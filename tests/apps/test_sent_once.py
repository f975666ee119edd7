"""Double clicks, reloads and telephones that try again never make two of anything."""

from __future__ import annotations

import re
from datetime import timedelta
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Assignment, WeekNote
from didactor.people import sent_once
from didactor.people.models import Person, SentForm
from tests import scene as scenes

TEMPLATES = sorted(Path(settings.ROOT, "didactor").rglob("templates/**/*.html"))


class SentOnceTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scenes.build()
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.url = reverse("people:students") + "add/"

    def student(self, **fields: str) -> dict[str, str]:
        return {"name": "Tobin", "instrument": "horn", "level": "beginner", "group": "", "once": "n1", **fields}

    def test_every_form_that_changes_something_has_a_number(self) -> None:
        for path in TEMPLATES:
            text = path.read_text()
            forms = re.findall(r"<form[^>]*method=\"post\"[^>]*>.*?</form>", text, re.S | re.I)
            for form in forms:
                with self.subTest(template=path.name):
                    self.assertIn("csrf_token", form)
        numbers = re.findall(r'name="once" value="([\w-]{16})"', self.client.get(self.url).content.decode())
        again = re.findall(r'name="once" value="([\w-]{16})"', self.client.get(self.url).content.decode())
        self.assertTrue(numbers)
        self.assertFalse(set(numbers) & set(again))

    def test_a_reload_of_new_cards_adds_nobody_and_leaves_the_cards_valid(self) -> None:
        first = self.client.post(self.url, self.student())
        self.assertContains(first, 'class="code"')
        tobin = Person.objects.get(name="Tobin")
        card = tobin.card.code_hash
        second = self.client.post(self.url, self.student())
        self.assertRedirects(second, reverse("people:student", args=[tobin.pk]))
        self.assertEqual((Person.objects.filter(name="Tobin").count(), Person.objects.get(name="Tobin").card.code_hash), (1, card))

    def test_the_same_form_with_other_words_is_another_one(self) -> None:
        self.client.post(self.url, self.student())
        self.client.post(self.url, self.student(name="Wenna"))
        self.client.post(self.url, self.student(once="n2"))
        self.assertEqual(Person.objects.filter(name__in=("Tobin", "Wenna")).count(), 3)

    def test_what_was_refused_can_be_sent_again(self) -> None:
        for _ in range(2):
            self.assertContains(self.client.post(self.url, self.student(instrument="lighthouse")), "lighthouse")
        self.assertFalse(SentForm.objects.exists())

    def test_what_ended_in_an_error_can_be_sent_again(self) -> None:
        failing = mock.patch("didactor.people.views.services.add_student", side_effect=RuntimeError)
        with failing, self.assertLogs("django.request", "ERROR"), self.assertRaises(RuntimeError):
            self.client.post(self.url, self.student())
        self.client.post(self.url, self.student())
        self.assertEqual(Person.objects.filter(name="Tobin").count(), 1)

    def test_while_the_first_is_worked_on_the_second_waits_and_says_so(self) -> None:
        self.client.post(self.url, self.student())
        SentForm.objects.update(location="")
        with mock.patch.object(sent_once, "WAITS_S", 0.15):
            page = self.client.post(self.url, self.student(), follow=True)
        self.assertContains(page, "sent twice")
        self.assertEqual(Person.objects.filter(name="Tobin").count(), 1)
        # What is lost with its process does not stand in the way for ever.
        SentForm.objects.update(sent_at=timezone.now() - timedelta(seconds=61))
        self.client.post(self.url, self.student())
        self.assertEqual(Person.objects.filter(name="Tobin").count(), 2)

    def test_somebody_else_with_the_same_number_is_somebody_else(self) -> None:
        self.client.post(self.url, self.student())
        other = scenes.teacher("Inner light", "wilma")
        self.client.force_login(other, backend="didactor.people.backends.PasswordBackend")
        self.client.post(self.url, self.student())
        self.assertEqual(Person.objects.filter(name="Tobin", studio=other.studio).count(), 1)

    def test_an_assignment_given_twice_is_one_and_both_are_led_to_it(self) -> None:
        url = f"{reverse('assign')}?passage={self.scene.passage.pk}"
        page = self.client.get(url)
        fields = {name: value for name, value in page.context["form"].initial.items() if isinstance(value, (str, int, float))}
        data = {
            **fields,
            "due_at": "2030-03-01T20:00",
            "stage": "at_tempo",
            "band_percent": "5",
            "checklist": ["notes"],
            "students_see": "marks",
            "metronome": "allowed",
            "ritardando_beats": "0",
            "enrolments": [self.scene.ylva.pk],
            "once": "n7",
        }
        answers = [self.client.post(url, data) for _ in range(3)]
        self.assertEqual({a.status_code for a in answers}, {302}, answers[0].context and answers[0].context["form"].errors)
        self.assertEqual(len({a["Location"] for a in answers}), 1)
        self.assertEqual(Assignment.objects.exclude(pk=self.scene.assignment.pk).count(), 1)

    def test_nothing_is_remembered_for_longer_than_it_matters(self) -> None:
        self.client.post(self.url, self.student())
        self.assertEqual(sent_once.forget_sent_forms(), 0)
        SentForm.objects.update(sent_at=timezone.now() - timedelta(days=2, minutes=1))
        self.assertEqual(sent_once.forget_sent_forms(), 1)

    def test_writing_the_same_words_on_another_page_is_no_repetition(self) -> None:
        url = reverse("assignments:week_note")
        self.client.post(url, {"week": "2030-03-04", "text": "Slow air first.", "once": "a"})
        self.client.post(url, {"week": "2030-03-04", "text": "Slow air first.", "once": "b"})
        self.assertEqual(WeekNote.objects.get().text, "Slow air first.")
