"""Pieces of an attempt that come by pass: nobody is looked up, and nothing comes by it that would not come the long way."""

from __future__ import annotations

import uuid
from unittest import mock

from django.core import signing
from django.db import connection
from django.test import Client
from django.test.utils import CaptureQueriesContext

from didactor.practice import passes, views
from didactor.practice.live import AWAY, GOING, OVER, Standing
from didactor.practice.models import Attempt
from tests.apps.test_practice import PracticeScene

PIECE = bytes(32_000)


class PassTests(PracticeScene):
    def setUp(self):
        super().setUp()
        self.number, begun = self.begin()
        self.key = begun.json()["pass"]
        self.asked: list[tuple[int, str]] = []
        for module in (passes, views):
            self.enterContext(mock.patch.object(module, "ask", side_effect=lambda *_, **__: Standing(GOING, waits=True)))

    def piece(self, at: int = 0, body: bytes = PIECE, key: str = "", client: Client | None = None, **more: object) -> tuple[int, int]:
        """The status it is answered with, and how many questions the database was asked."""
        url = f"{self.url('piece', more.get('number', self.number))}?at={at}{more.get('end', '')}"
        with CaptureQueriesContext(connection) as questions:
            self.answer = (client or self.client).post(
                url, body, content_type="application/octet-stream", headers={"X-Pass": key or self.key}
            )
        return self.answer.status_code, len(questions)

    def kept(self) -> int:
        return Attempt.objects.get(pk=self.number).samples_path.stat().st_size

    def test_the_first_piece_goes_the_long_way_and_the_next_ones_ask_nobody(self):
        status, questions = self.piece()
        self.assertEqual((status, questions > 0), (200, True))
        self.assertEqual(self.piece(32_000), (200, 0))
        self.assertEqual(self.answer.json(), {"state": "going", "waits": True})
        self.assertEqual(self.kept(), 64_000)
        # Twice is once.
        self.assertEqual(self.piece(32_000), (200, 0))
        self.assertEqual(self.kept(), 64_000)

    def test_what_does_not_simply_go_on_goes_the_long_way(self):
        self.piece()
        for at, body, end, status in (
            (999_999, PIECE, "", 409),
            (32_000, b"abc", "", 400),
            ("²", PIECE, "", 400),
            (32_000, PIECE, "&last=1", 200),
        ):
            found, questions = self.piece(at, body, end=end)
            self.assertEqual((found, questions > 0), (status, True), (at, end))
        self.assertTrue(Attempt.objects.get(pk=self.number).ended)

    def test_where_nobody_listens_the_long_way_says_so(self):
        self.piece()
        with mock.patch.object(passes, "ask", return_value=Standing(AWAY)), mock.patch.object(views, "ask", return_value=Standing(AWAY)):
            status, questions = self.piece(32_000)
        self.assertEqual((status, questions > 0, self.answer.json()["state"]), (200, True, "away"))
        self.assertEqual(self.kept(), 64_000, "once")

    def test_that_it_is_over_is_asked_once(self):
        self.piece()
        Attempt.objects.filter(pk=self.number).update(ended=True, outcome="clean")
        over = mock.patch.object(passes, "ask", return_value=Standing(OVER))
        with over, mock.patch.object(views, "ask", side_effect=AssertionError("asked again")):
            self.piece(32_000)
        self.assertEqual((self.answer.json()["state"], self.answer.json()["attempt"]["outcome"]), ("over", "clean"))

    def test_a_pass_is_of_one_attempt_one_browser_and_some_minutes(self):
        self.piece()
        other, begun = self.begin()
        self.piece(number=other, key=begun.json()["pass"])
        for key in (begun.json()["pass"], "", "x", f"{self.key}x", f"96000{self.key[5:]}", signing.TimestampSigner().sign("32000")):
            status, questions = self.piece(32_000, key=key or " ")
            self.assertEqual((status, questions > 0), (200, True), key)
        with mock.patch.object(signing.time, "time", return_value=signing.time.time() + passes.GOOD_FOR_S + 1):
            self.assertGreater(self.piece(64_000)[1], 0)
        # Somebody else who has got hold of it, signed in or not.
        self.assertEqual(self.piece(32_000, client=Client())[0], 302)
        ossian = Client()
        ossian.force_login(self.scene.ossian.student)
        self.assertEqual(self.piece(32_000, client=ossian)[0], 404)

    def test_it_opens_no_other_address_and_takes_no_form(self):
        self.piece()
        self.assertEqual(self.client.post(self.url("piece", self.number), {"at": "0"}, headers={"X-Pass": self.key}).status_code, 400)
        for url in (self.url("by_hand"), self.url("crossing"), f"/elsewhere/{self.number}/"):
            self.assertNotEqual(Client().post(url, {}, headers={"X-Pass": self.key}).status_code, 200, url)

    def test_one_that_nothing_was_sent_of_is_not_begun_by_a_pass(self):
        number = uuid.uuid4()
        self.assertEqual(self.piece(number=number)[0], 404)
