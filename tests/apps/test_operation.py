"""What failed is seen and tried again; how the service stands; what its log holds."""

from __future__ import annotations

import json
import logging
import os
import subprocess
import sys
import tempfile
from unittest import mock

from django.core.management import call_command
from django.db import OperationalError
from django.test import TestCase, override_settings
from django.urls import reverse
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from didactor.letters.models import Letter
from didactor.library.models import ModelSound, Reference, ReferenceSound
from didactor.operation import state
from didactor.operation.logs import WithoutSecrets
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take, TakeState
from tests import scene as scenes


class TroubleTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scenes.build(listen_first=False)
        self.take = scenes.recorded(self.scene, hear=False)
        Take.objects.filter(pk=self.take.pk).update(state=TakeState.FAILED, trouble="The ear fell asleep.")
        passage = self.scene.passage
        self.model = ModelSound.objects.create(passage=passage, instrument="clarinet", tempo_qpm=92, failed=True)
        reference = Reference.objects.create(passage=passage, title="Slowly", kind="sound", created_by=self.scene.teacher)
        self.stretched = ReferenceSound.objects.create(reference=reference, tempo_qpm=60, failed=True)
        self.letter = Letter.objects.create(
            person=self.scene.teacher, kind="handed_in", about="1", address="a@b.example", subject="A take", body="B",
            made_at=timezone.now(), tries=5, trouble="No such address.",
        )  # fmt: skip
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.url = reverse("troubles")

    def jobs(self, name: str) -> int:
        return ProcrastinateJob.objects.filter(task_name__endswith=name, status="todo").count()

    def again(self, kind: str, number: object) -> None:
        self.client.post(self.url, {"kind": kind, "number": number})

    def test_everything_that_failed_is_told_with_its_reason(self):
        page = self.client.get(self.url)
        for words in ("Ylva: ", "The ear fell asleep.", "model at 92", "“Slowly” at 60", "Letter to Hedda: A take", "No such address."):
            self.assertContains(page, words)

    def test_each_is_tried_again_once(self):
        before = [self.jobs(name) for name in ("analyse_take", "render_model", "stretch_reference")]
        for _ in range(2):
            self.again("take", self.take.pk)
            self.again("model", self.model.pk)
            self.again("stretched", self.stretched.pk)
            self.again("letter", self.letter.pk)
        after = [self.jobs(name) for name in ("analyse_take", "render_model", "stretch_reference")]
        self.assertEqual(after, [count + 1 for count in before])
        self.letter.refresh_from_db()
        self.assertEqual((self.letter.tries, self.letter.trouble), (0, ""))
        self.assertContains(self.client.get(self.url), "Nothing: every recording was heard")
        analyse_take(take_id=self.take.pk)
        self.assertEqual(Take.objects.get(pk=self.take.pk).state, TakeState.ANALYSED)

    def test_what_is_nonsense_or_another_studio_s_changes_nothing(self):
        self.client.force_login(scenes.teacher("Elsewhere", "elsa"), backend="didactor.people.backends.PasswordBackend")
        self.assertNotContains(self.client.get(self.url), "The ear fell asleep.")
        for kind, number in (
            ("take", self.take.pk),
            ("model", self.model.pk),
            ("stretched", self.stretched.pk),
            ("letter", self.letter.pk),
        ):
            self.again(kind, number)
        for kind, number in (("take", "²"), ("take", ""), ("rain", 1), ("take", 10**30), ("model", "nan")):
            self.again(kind, number)
        self.assertEqual(Take.objects.get(pk=self.take.pk).state, TakeState.FAILED)
        self.assertTrue(ModelSound.objects.get(pk=self.model.pk).failed and ReferenceSound.objects.get().failed)
        self.assertEqual(Letter.objects.get().tries, 5)

    def test_the_desk_tells_of_it(self):
        self.assertContains(self.client.get(reverse("review:waiting")), f'<a href="{self.url}">1 could not be heard</a>')


class StandingTests(scenes.OwnFolders, TestCase):
    def test_a_process_is_ready_with_its_database_its_tables_and_room(self):
        self.assertEqual(self.client.get("/health/").content, b"ok\n")
        state._tables_are_up_to_date = False
        answer = self.client.get("/ready/")
        self.assertEqual((answer.status_code, answer.json()), (200, {"database": True, "tables": True, "store": True}))
        with mock.patch.object(state, "LEAST_FREE_BYTES", 10**18):
            self.assertEqual(self.client.get("/ready/").status_code, 503)
        with mock.patch.object(state, "connection") as connection:
            connection.cursor.side_effect = OperationalError("gone")
            answer = self.client.get("/ready/")
        self.assertEqual((answer.status_code, answer.json()["database"]), (503, False))

    def test_tables_of_an_older_version_are_not_ready(self):
        state._tables_are_up_to_date = False
        call_command("migrate", "letters", "zero", verbosity=0)
        self.assertEqual(self.client.get("/ready/").json(), {"database": True, "tables": False, "store": True})
        call_command("migrate", verbosity=0)
        self.assertEqual(self.client.get("/ready/").status_code, 200)

    def test_figures_are_for_who_has_the_token(self):
        scene = scenes.build(listen_first=False)
        scenes.recorded(scene, hear=False)
        for token, told, status in (("", "Bearer ", 404), ("abc", "", 404), ("abc", "Bearer abd", 404), ("abc", "Bearer ä", 404)):
            with override_settings(METRICS_TOKEN=token):
                self.assertEqual(self.client.get("/metrics/", headers={"Authorization": told}).status_code, status)
        with override_settings(METRICS_TOKEN="abc"):
            answer = self.client.get("/metrics/", headers={"Authorization": "Bearer abc"})
        text = answer.content.decode()
        self.assertIn('didactor_takes{state="stored"} 1.0', text)
        self.assertRegex(text, r'didactor_jobs\{queue="takes",state="todo"\} 1\.0')
        self.assertRegex(text, r'didactor_oldest_job_seconds\{queue="takes"\} ')
        self.assertIn("django_http_requests_latency_seconds_by_view_method", text)
        self.assertNotIn("Ylva", text)

    def test_figures_of_all_processes_that_serve_are_told_together(self):
        with tempfile.TemporaryDirectory() as folder:
            together = {"PROMETHEUS_MULTIPROC_DIR": folder}
            count = "from prometheus_client import Counter; Counter('pages', 'pages').inc(%d)"
            for number in (2, 3):
                subprocess.run([sys.executable, "-c", count % number], env={**os.environ, **together}, check=True, timeout=60)
            with override_settings(METRICS_TOKEN="abc"), mock.patch.dict(os.environ, together):
                text = self.client.get("/metrics/", headers={"Authorization": "Bearer abc"}).content.decode()
        self.assertIn("pages_total 5.0", text)
        self.assertIn("didactor_store_free_bytes", text)


class LogTests(TestCase):
    def line(self, message: str, *arguments: object) -> str:
        record = logging.LogRecord("django.request", logging.ERROR, "", 1, message, arguments, None)
        record.request = "all of it"
        self.assertTrue(WithoutSecrets().filter(record))
        self.assertNotIn("request", record.__dict__)
        from pythonjsonlogger.json import JsonFormatter

        return json.loads(JsonFormatter("{levelname}{message}", style="{").format(record))["message"]

    def test_what_lets_somebody_in_is_not_in_it(self):
        self.assertEqual(self.line("Internal Server Error: %s", "/in/abcd-efgh-jkmn/"), "Internal Server Error: /in/…/")
        self.assertEqual(self.line("%s failed", "/assignments/calendar/5:x:y.ics?a"), "/assignments/calendar/…?a failed")
        self.assertEqual(self.line("/letters/stop/1:handed_in:xyz/"), "/letters/stop/…/")
        self.assertEqual(self.line("take %s could not be analysed", 7), "take 7 could not be analysed")
