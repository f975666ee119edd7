"""What is answered where something may not be, or cannot be just now: a page for who asked for one, plain words for a script."""

from __future__ import annotations

from unittest import mock

from django.db import InterfaceError, OperationalError
from django.test import Client, TestCase
from django.urls import reverse

from didactor.review.models import Mark
from didactor.review.services import open_review
from didactor.takes.services import submit_take
from tests import scene as scenes

BACKEND = "didactor.people.backends.PasswordBackend"
PAGE = {"Accept": "text/html,application/xhtml+xml,*/*;q=0.8"}
SCRIPTS = ({"Accept": "*/*"}, {"Accept": "image/webp,*/*"}, {"HX-Request": "true"}, {**PAGE, "HX-Request": "true"})


class NotDoneTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scenes.build(listen_first=False)
        self.client.force_login(self.scene.teacher, backend=BACKEND)

    def mark(self) -> tuple[str, Mark]:
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2})
        review = open_review(submission=submit_take(take=take), teacher=self.scene.teacher)
        mark = review.marks.first()
        assert mark is not None
        return reverse("review:decide_mark", args=[review.submission_id, mark.pk]), mark

    def test_whoever_is_signed_out_is_led_to_the_sign_in_and_back(self):
        url = reverse("review:waiting") + "?group=3"
        for headers in ({}, PAGE):
            self.assertRedirects(Client().get(url, headers=headers), "/sign-in/?next=/desk/%3Fgroup%3D3")

    def test_a_script_does_not_get_the_sign_in_for_its_answer(self):
        url, mark = self.mark()
        for headers in SCRIPTS:
            answer = Client().post(url, {"standing": "kept"}, headers=headers)
            self.assertEqual((answer.status_code, answer["Content-Type"]), (401, "text/plain; charset=utf-8"), headers)
            self.assertContains(answer, "You are signed out: this was not done.", status_code=401)
        self.assertEqual(Mark.objects.get(pk=mark.pk).standing, mark.standing)

    def test_a_form_of_an_older_sign_in(self):
        client = Client(enforce_csrf_checks=True)
        client.force_login(self.scene.teacher, backend=BACKEND)
        url, _ = self.mark()
        self.assertContains(client.post(url, headers=PAGE), "<h1>This page was open for too long</h1>", status_code=403)
        answer = client.post(url, headers=SCRIPTS[0])
        self.assertEqual(answer["Content-Type"], "text/plain; charset=utf-8")
        self.assertContains(answer, "older than your last sign-in", status_code=403)

    def test_what_is_gone(self):
        url = reverse("review:detail", args=[10**6])
        self.assertContains(self.client.get(url, headers=PAGE), "<h1>There is nothing here</h1>", status_code=404)
        for headers in SCRIPTS:
            answer = self.client.get(url, headers=headers)
            self.assertContains(answer, "not here any more", status_code=404)
            self.assertNotContains(answer, "<", status_code=404)

    def test_a_database_that_is_away_is_worth_asking_again_and_an_error_of_ours_is_not_called_that(self):
        self.client.raise_request_exception = False
        for error, status, heading in (
            (OperationalError("gone"), 503, "Just now nothing can be looked up"),
            (InterfaceError("closed"), 503, "Just now nothing can be looked up"),
            (ValueError("ours"), 500, "Something went wrong on our side"),
        ):
            with (
                mock.patch("didactor.review.views.desk_of", side_effect=error),
                self.assertLogs("django.request", "ERROR"),
                self.assertNumQueries(2),
            ):
                page = self.client.get(reverse("review:waiting"), headers=PAGE)
                self.assertContains(page, heading, status_code=status)
                self.assertEqual(page.headers.get("Retry-After"), "10" if status == 503 else None)
            with mock.patch("didactor.review.views.desk_of", side_effect=error), self.assertLogs("django.request", "ERROR"):
                told = self.client.get(reverse("review:waiting"), headers=SCRIPTS[0])
            self.assertEqual(told["Content-Type"], "text/plain; charset=utf-8")
            self.assertContains(told, "This was not done", status_code=status)
