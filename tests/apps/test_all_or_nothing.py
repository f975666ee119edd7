"""Rows that must be together are together, wherever a process ends: every job is queued in the transaction that makes it needed, every act
of a page is done or not done, and a job that was killed between any two writes finds, run again, what its first run did.
"""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any
from unittest import mock

from django.apps import apps
from django.conf import settings
from django.contrib.sessions.base_session import AbstractBaseSession
from django.core.files.storage import FileSystemStorage
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection, models, transaction
from django.test import SimpleTestCase, TestCase
from django.urls import reverse
from procrastinate.contrib.django.models import ProcrastinateJob

from didactor.assignments.models import Assignment
from didactor.assignments.services import withdraw
from didactor.library.imports import begin_import
from didactor.library.jobs import engrave_parts, read_file, render_model
from didactor.library.models import Engraving, ModelSound
from didactor.people.models import Person
from didactor.people.services import add_student, record_consent
from didactor.review.services import Draft, open_review, send
from didactor.takes.jobs import analyse_take, put_takes_together
from didactor.takes.models import Take, Together
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import musicxml, wav

BACKEND = "didactor.people.backends.PasswordBackend"
#: Jobs that follow from nothing that is written.
FOLLOWS_FROM_NOTHING = {"ask_for_reset", "handle"}


class Killed(BaseException):
    """The power went."""


class QueuedWithTheRowsTests(SimpleTestCase):
    def test_a_job_is_queued_in_a_transaction(self) -> None:
        outside = [f"{path}: {name}" for path, name, inside in self.deferrals() if not inside and name not in FOLLOWS_FROM_NOTHING]
        self.assertEqual([], outside)

    def deferrals(self) -> Iterator[tuple[str, str, bool]]:
        for path in sorted((settings.ROOT / "didactor").rglob("*.py")):
            tree = ast.parse(path.read_text())
            above = {child: node for node in ast.walk(tree) for child in ast.iter_child_nodes(node)}
            for node in ast.walk(tree):
                # A query defers columns, by their names; a task its arguments, by keyword.
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr == "defer" and node.keywords:
                    yield str(path.relative_to(settings.ROOT)), *self._around(node, above)

    @staticmethod
    def _around(node: ast.AST, above: dict[ast.AST, ast.AST]) -> tuple[str, bool]:
        inside, name = False, ""
        while node in above:
            node = above[node]
            marks: list[ast.AST] = []
            if isinstance(node, ast.With):
                marks = [item.context_expr for item in node.items]
            elif isinstance(node, ast.FunctionDef):
                name, marks = name or node.name, list(node.decorator_list)
            inside = inside or any("atomic" in ast.unparse(mark) for mark in marks)
        return name, inside


@contextmanager
def killed_before_write(number: int) -> Iterator[Counter[str]]:
    """The process ends before its ``number``-th statement that writes. What was committed by then stays."""
    written: Counter[str] = Counter()

    def wrapper(execute: Any, sql: str, params: Any, many: bool, context: Any) -> Any:
        # Sessions and forms sent once belong to the request, not to what it does.
        if sql.split(None, 1)[0] in ("INSERT", "UPDATE", "DELETE", "SELECT") and (
            not sql.startswith("SELECT") or "procrastinate_defer" in sql
        ):
            if not any(name in sql for name in ("people_session", "sent_once", "axes_", 'people_person" SET "last_login')):
                written["writes"] += 1
            if written["writes"] == number:
                raise Killed
        return execute(sql, params, many, context)

    with connection.execute_wrapper(wrapper):
        yield written


#: Numbers and letters that are other ones each time.
_NEW_EACH_TIME = (
    "session_data",
    "session_key",
    "seconds",
    "code_hash",
    "password",
    "token_hash",
    "username",
    "sha256",
    "original",
    "source",
    "sound",
    "playback",
    "file",
)


def fingerprint() -> dict[str, Any]:
    """What lies in the database, but for numbers of rows and times."""
    found: dict[str, Any] = {"jobs": sorted(ProcrastinateJob.objects.values_list("task_name", "status"))}
    for model in apps.get_models():
        if model._meta.app_label not in ("people", "library", "assignments", "takes", "review", "practice", "letters", "archive"):
            continue
        plain = (models.CharField, models.TextField, models.BooleanField, models.IntegerField, models.FloatField)
        names = [
            f.name
            for f in model._meta.concrete_fields
            if isinstance(f, plain) and not f.primary_key and not f.is_relation and f.name not in _NEW_EACH_TIME
        ]
        if not issubclass(model, AbstractBaseSession) and model.__name__ not in ("SentForm", "Engraving"):
            # Of times it matters whether there is one.
            times = [f.name for f in model._meta.concrete_fields if isinstance(f, models.DateTimeField) and f.null]
            rows = model._default_manager.values_list(*names, *times)
            found[model._meta.label] = sorted(repr((*row[: len(names)], *(v is None for v in row[len(names) :]))) for row in rows)
    return found


class KilledTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        cls.scene = scenes.build(listen_first=False)
        cls.take = scenes.recorded(cls.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        record_consent(student=cls.scene.ylva.student, given_by="Ylva", recorded_by=cls.scene.teacher, kind="together")

    def setUp(self) -> None:
        self.client.force_login(Person.objects.get(pk=self.scene.teacher.pk), backend=BACKEND)

    def post(self, name: str, *arguments: Any, **sent: Any) -> None:
        query = sent.pop("query", "")
        answer = self.client.post(reverse(name, args=arguments) + query, sent)
        self.assertLess(answer.status_code, 400, answer.content.decode()[:2000])

    def all_or_nothing(self, act: Callable[[], Any]) -> int:
        """Do it, killed before each of its writes in turn: afterwards all of it is there, or nothing. Returns how many writes it has."""
        before = fingerprint()
        with transaction.atomic():
            with killed_before_write(10_000) as written:
                act()
            after = fingerprint()
            transaction.set_rollback(True)
        self.assertNotEqual(before, after)
        for number in range(1, written["writes"] + 1):
            with self.subTest(write=number), transaction.atomic():
                with self.assertRaises(Killed), killed_before_write(number):
                    act()
                found = fingerprint()
                if found != before:
                    self.assertEqual(after, found)
                transaction.set_rollback(True)
        return written["writes"]

    def assignment(self, **more: Any) -> dict[str, Any]:
        return {
            "title": "Final",
            "due_at": "2030-01-05T18:00",
            "beat_unit": "quarter",
            "tempo": "92",
            "band_percent": "4",
            "stage": "final",
            "step": "play",
            "count_off": "4",
            "checklist": ["notes"],
            "students_see": "marks",
            "metronome": "allowed",
            "find_out": "",
            "enrolments": [self.scene.ylva.pk],
            **more,
        }

    # --- Acts of pages -------------------------------------------------------------------------------------------------

    def test_a_final_with_its_rehearsal_series_and_template(self) -> None:
        sent = self.assignment(series="Finals", rehearsal_days="1", keep_as="My finals")

        def act() -> None:
            self.post("assign", query=f"?passage={self.scene.passage.pk}", **sent)
            self.assertTrue(Assignment.objects.filter(rehearses__title="Final").exists())

        self.assertGreater(self.all_or_nothing(act), 5)

    def test_a_student_with_guardian_group_and_instrument(self) -> None:
        of = {"name": "Tove", "instrument": "clarinet", "level": "beginner", "group_name": "New", "is_minor": True, "guardian": "Una"}
        self.assertGreater(self.all_or_nothing(lambda: add_student(studio=self.scene.teacher.studio, **of)), 5)

    def test_name_age_and_reading(self) -> None:
        sent = {"called": "Ylva T.", "is_minor": "on", "no_notes_yet": "on"}
        self.all_or_nothing(lambda: self.post("people:student", self.scene.ylva.student_id, **sent))

    def test_withdrawing_with_what_hangs_before_it(self) -> None:
        self.post("assign", query=f"?passage={self.scene.passage.pk}", **self.assignment(rehearsal_days="1"))
        final = Assignment.objects.get(title="Final")
        self.all_or_nothing(lambda: withdraw(final.tasks.all()))

    def test_handing_in_and_answering(self) -> None:
        self.all_or_nothing(lambda: submit_take(take=Take.objects.get(pk=self.take.pk)))
        submission = submit_take(take=Take.objects.get(pk=self.take.pk))
        review = open_review(submission=submission, teacher=self.scene.teacher)
        draft = Draft(text="Once more, slowly.", decision="shorter", decision_bars="3-4", decision_minutes=5)
        self.assertGreater(self.all_or_nothing(lambda: send(review=review, draft=draft)), 4)

    def test_a_recording_of_all_together_has_its_job(self) -> None:
        for name in ("Tove", "Edda"):
            task = scenes.another(self.scene, name)
            record_consent(student=task.student, given_by=name, recorded_by=self.scene.teacher, kind="together")
            take = scenes.recorded_by(task, wav(seed=len(name) + task.pk))
            Take.objects.filter(pk=take.pk).update(state="analysed")
            submit_take(take=Take.objects.get(pk=take.pk))
        takes = list(Take.objects.filter(submission__isnull=False).values_list("pk", flat=True))
        self.assertGreater(
            self.all_or_nothing(lambda: self.post("progress:make_together", self.scene.assignment.pk, take=takes, tempo="92")), 2
        )

    def test_an_upload_that_is_whole_is_a_take_with_its_job(self) -> None:
        self.client.force_login(Person.objects.get(pk=self.scene.ylva.student_id), backend=BACKEND)

        def act() -> None:
            file = SimpleUploadedFile("take.wav", wav(seed=77), "audio/wav")
            self.post("stand:upload_file", self.scene.task.pk, recording=file, file=file)
            self.assertEqual(Take.objects.count(), 2)

        self.all_or_nothing(act)

    def test_files_of_an_import_have_their_jobs(self) -> None:
        def act() -> None:
            begin_import(teacher=self.scene.teacher, files=[SimpleUploadedFile(f"{n}.musicxml", musicxml()) for n in "ab"])

        self.assertGreater(self.all_or_nothing(act), 4)

    # --- Jobs ----------------------------------------------------------------------------------------------------------

    def again(self, job: Callable[[], Any], done: Callable[[], Any]) -> int:
        """Run a job, killed before each of its writes in turn, and run it again: it is as if it had run once. Returns its writes."""
        with transaction.atomic():
            with killed_before_write(10_000) as written:
                job()
            once, told = fingerprint(), done()
            transaction.set_rollback(True)
        self.assertTrue(told)
        for number in range(1, written["writes"] + 1):
            with self.subTest(write=number), transaction.atomic():
                with self.assertRaises(Killed), killed_before_write(number):
                    job()
                job()
                self.assertEqual((once, told), (fingerprint(), done()))
                transaction.set_rollback(True)
        return written["writes"]

    def test_a_take_is_heard(self) -> None:
        data = wav(seed=12)
        take = scenes.recorded(self.scene, hear=False, data=data)
        self.again(lambda: analyse_take(take_id=take.pk), lambda: Take.objects.get(pk=take.pk).analyses.count())

    def test_a_file_is_read(self) -> None:
        tunes = b"".join(b"X:%d\nT:Tune %d\nM:4/4\nL:1/4\nK:C\nCDEF|G4|\n\n" % (n, n) for n in (1, 2))
        batch = begin_import(teacher=self.scene.teacher, files=[SimpleUploadedFile("two.abc", tunes)])
        file = batch.files.get()
        # Files are not put back with the rows.
        self.enterContext(mock.patch.object(FileSystemStorage, "delete"))

        def told() -> Any:
            file.refresh_from_db()
            return file.state, file.pieces.count(), bool(file.source)

        self.assertGreater(self.again(lambda: read_file(imported_file_id=file.pk), told), 4)

    def test_a_model_is_played(self) -> None:
        sound = ModelSound.objects.first()
        self.again(lambda: render_model(model_sound_id=sound.pk), lambda: bool(ModelSound.objects.get(pk=sound.pk).sound))

    def test_parts_are_drawn(self) -> None:
        passage = self.scene.task.passage

        def job() -> None:
            engrave_parts(passage_ids=[passage.pk])

        Engraving.objects.all().delete()
        self.again(job, lambda: Engraving.objects.filter(revision=passage.revision).count())

    def test_takes_are_put_together(self) -> None:
        made = Together.objects.create(assignment=self.scene.assignment, made_by=self.scene.teacher, tempo=92.0)
        other = scenes.recorded_by(scenes.another(self.scene, "Tove"), wav(seed=5))
        analyse_take(take_id=other.pk)
        made.takes.set([self.take, other])
        self.again(lambda: put_takes_together(together_id=made.pk), lambda: bool(Together.objects.get(pk=made.pk).sound))
