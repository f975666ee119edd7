"""A studio into one file and back into an empty installation: every row and every byte, or nothing at all."""

from __future__ import annotations

import hashlib
import io
import json
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path

from django.apps import apps
from django.conf import settings
from django.core.files.base import ContentFile
from django.core.files.storage import default_storage
from django.core.management import CommandError, call_command
from django.db import connection
from django.db.models import Model
from django.test import TestCase
from django.utils import timezone

from didactor.archive.contents import LEFT_OUT, ROWS, files_of, model_of, rows_of
from didactor.archive.reading import ArchiveRefused, import_studio
from didactor.archive.writing import export_studio
from didactor.assignments.models import Task
from didactor.letters.models import Choice, Letter
from didactor.library.models import Reference
from didactor.people.models import Person, Studio
from didactor.practice.models import Attempt, Habit
from didactor.review.services import Draft, add_remark, amend, open_review, send, set_scale
from didactor.takes.models import SelfMark, SelfReview
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import tone


class ArchiveScene(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scene = scenes.build(listen_first=False)
        self.studio = scene.teacher.studio
        take = scenes.recorded(scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        own = SelfReview.objects.create(take=take, done_at=timezone.now(), work_on="Øre, “ear” ♯")
        SelfMark.objects.create(self_review=own, category="notes", bar="6", text="flat?")
        review = open_review(submission=submit_take(take=take), teacher=scene.teacher)
        set_scale(teacher=scene.teacher, steps=["1", "2"])
        add_remark(review=review, category="notes", text="Breathe", bar="6", beat=1.0)
        send(review=review, draft=Draft(decision="shorter", decision_bars="5-6", grade="1"))
        amend(review=review, teacher=scene.teacher, draft=Draft(decision="passed", text="After all."))
        Attempt.objects.create(task=scene.task, stone="1-2", bars="1-2", tempo=60).sound.save("a.mp4", ContentFile(b"sound"))
        Habit.objects.create(enrolment=scene.ylva, minutes=12, days_off=[6])
        Reference.objects.create(
            passage=scene.passage, title="R", kind="sound", created_by=scene.teacher, file=ContentFile(b"ref", "r.mp4")
        )
        Choice.objects.create(person=scene.teacher, not_wanted=["handed_in"])
        Letter.objects.create(
            person=scene.teacher, kind="handed_in", about="1", address="a@b.example", subject="S", body="B", made_at=timezone.now()
        )
        scenes.teacher("Elsewhere", "elsa")
        self.made = io.BytesIO()
        self.counts = export_studio(self.studio, self.made)

    def rows(self) -> dict[str, list[dict]]:
        """Every column as the database holds it, times to the microsecond, and what is linked in tables between."""
        return {label: [self.whole(row) for row in rows_of(label, self.studio)] for label in ROWS}

    @staticmethod
    def whole(row: Model) -> dict:
        links = {field.name: {other.pk for other in field.value_from_object(row)} for field in row._meta.many_to_many}
        return {field.name: field.value_from_object(row) for field in row._meta.concrete_fields} | links

    def files(self) -> dict[str, bytes]:
        found = {}
        for name in files_of(self.studio):
            with default_storage.open(name) as source:
                found[name] = source.read()
        return found

    def empty(self) -> None:
        """As freshly installed: no rows, no files."""
        tables = [model._meta.db_table for model in apps.get_models() if model.__module__.startswith("didactor")]
        with connection.cursor() as cursor:
            cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")
            cursor.execute(f"TRUNCATE {', '.join(tables)} RESTART IDENTITY CASCADE")
            cursor.execute("SET CONSTRAINTS ALL DEFERRED")
        for path in Path(settings.MEDIA_ROOT).rglob("*"):
            if path.is_file():
                path.unlink()

    def left_over(self) -> list[str]:
        rows = [label for label in ROWS if model_of(label)._base_manager.exists()]
        return rows + [str(path) for path in Path(settings.MEDIA_ROOT).rglob("*") if path.is_file()]


class RoundTripTests(ArchiveScene):
    def test_every_row_and_every_byte_comes_back_and_the_next_row_has_a_free_number(self):
        rows, files = self.rows(), self.files()
        self.assertGreaterEqual(len(files), 5)
        self.empty()
        self.assertEqual(self.left_over(), [])
        counts = import_studio(self.made)
        self.assertEqual(self.rows(), rows)
        self.assertEqual(self.files(), files)
        self.assertEqual(counts, {label: len(rows[label]) for label in ROWS} | {"files": len(files)})
        self.assertEqual(Studio.objects.count(), 1, "the other studio is not in it")
        scenes.recorded_by(Task.objects.get(pk=self.scene.task.pk), data=tone(1.1))
        self.assertTrue(Person.objects.get(username="hedda").check_password(scenes.PASSWORD))

    def test_every_kind_of_row_is_in_it_or_left_out_with_a_reason(self):
        own = {model._meta.label for model in apps.get_models() if model.__module__.startswith("didactor")}
        self.assertEqual(set(ROWS) | set(LEFT_OUT), own)
        self.assertFalse(set(ROWS) & set(LEFT_OUT))

    def test_a_file_that_is_gone_is_told_and_the_rest_is_written(self):
        name = next(iter(files_of(self.studio)))
        default_storage.delete(name)
        again = io.BytesIO()
        self.assertEqual(export_studio(self.studio, again)["missing"], 1)
        with zipfile.ZipFile(again) as archive:
            self.assertEqual(json.loads(archive.read("manifest.json"))["missing"], [name])


class RefusalTests(ArchiveScene):
    def changed(self, change: Callable[[dict[str, bytes], dict], None]) -> io.BytesIO:
        """The same archive with some of its parts otherwise."""
        with zipfile.ZipFile(self.made) as archive:
            parts = {name: archive.read(name) for name in archive.namelist() if name != "manifest.json"}
            manifest = json.loads(archive.read("manifest.json"))
        change(parts, manifest)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for name, body in parts.items():
                archive.writestr(name, body)
            archive.writestr("manifest.json", json.dumps(manifest))
        return out

    def refused(self, source: io.BytesIO, words: str) -> None:
        with self.assertRaisesMessage(ArchiveRefused, words):
            import_studio(source)
        self.assertEqual(self.left_over(), [], words)

    def test_where_there_is_a_studio_already_nothing_is_touched(self):
        rows, files = self.rows(), self.files()
        with self.assertRaisesMessage(ArchiveRefused, "There is a studio here already"):
            import_studio(self.made)
        self.assertEqual((self.rows(), self.files()), (rows, files))

    def test_cut_off_damaged_newer_or_foreign_is_refused_whole(self):
        self.empty()
        body = self.made.getvalue()
        for length in (0, 10, len(body) // 2, len(body) - 5):
            self.refused(io.BytesIO(body[:length]), "it was cut off")
        name = "rows/takes.Take.jsonl"

        def damage(parts: dict[str, bytes], _: dict) -> None:
            parts[name] = parts[name].replace(b"1", b"2", 1)

        def drop(parts: dict[str, bytes], _: dict) -> None:
            parts.pop(name)

        def newer(_: dict[str, bytes], manifest: dict) -> None:
            manifest["migrations"]["takes"] = "9999_later"

        def newer_format(_: dict[str, bytes], manifest: dict) -> None:
            manifest["format"] = "didactor-studio-2"

        def older(_: dict[str, bytes], manifest: dict) -> None:
            manifest["migrations"]["takes"] = "0001_initial"

        def foreign(_: dict[str, bytes], manifest: dict) -> None:
            manifest["format"] = "something"

        def outside(parts: dict[str, bytes], manifest: dict) -> None:
            parts["files/../../x"] = b""
            manifest["sha256"]["files/../../x"] = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"

        for change, words in (
            (damage, "is damaged: rows/takes.Take.jsonl"),
            (drop, "Parts of it are missing"),
            (newer, "newer version"),
            (newer_format, "newer version"),
            (older, "older version"),
            (foreign, "no archive of a studio"),
            (outside, "where none may lie"),
        ):
            self.refused(self.changed(change), words)

    def with_rows(self, label: str, change: Callable[[bytes], bytes]) -> io.BytesIO:
        def rewrite(parts: dict[str, bytes], manifest: dict) -> None:
            name = f"rows/{label}.jsonl"
            parts[name] = change(parts[name])
            manifest["sha256"][name] = hashlib.sha256(parts[name]).hexdigest()

        return self.changed(rewrite)

    def test_rows_that_do_not_fit_leave_nothing_half_in(self):
        self.empty()
        self.refused(self.with_rows("takes.Submission", lambda body: b""), "as many rows as it says")
        self.refused(self.with_rows("takes.Take", lambda body: body.replace(b'"task": ', b'"task": 99')), "cannot be kept")
        self.refused(self.with_rows("letters.Letter", lambda body: body.replace(b"letters.letter", b"people.studio")), "cannot be kept")
        self.refused(self.with_rows("letters.Letter", lambda body: b"{nonsense"), "cannot be kept")
        self.assertEqual(import_studio(self.made)["people.Studio"], 1, "and the whole one goes in after all that")


class CommandTests(ArchiveScene):
    def test_the_commands_write_over_nothing_and_say_what_is_wrong(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "studio.zip"
            with self.assertRaisesMessage(CommandError, "Name one studio"):
                call_command("export_studio", str(path))
            out = io.StringIO()
            call_command("export_studio", str(path), "--studio", self.studio.name, stdout=out)
            self.assertIn("takes.Take", out.getvalue())
            self.assertEqual([p.name for p in Path(folder).iterdir()], ["studio.zip"])
            with self.assertRaisesMessage(CommandError, "is there already"):
                call_command("export_studio", str(path), "--studio", self.studio.name)
            with self.assertRaisesMessage(CommandError, "There is a studio here already"):
                call_command("import_studio", str(path))
            with self.assertRaisesMessage(CommandError, "cannot be read"):
                call_command("import_studio", str(path) + "x")
            self.empty()
            call_command("import_studio", str(path), stdout=out)
            self.assertEqual(Studio.objects.get().name, self.studio.name)
