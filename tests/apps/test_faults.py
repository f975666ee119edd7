"""What goes wrong with machines: power that goes, a clock that is put, a queue that is long. Nothing is lost, and the student knows."""

from __future__ import annotations

import io
import tempfile
import time
from datetime import timedelta
from pathlib import Path
from unittest import mock

from asgiref.sync import async_to_sync
from django.conf import settings
from django.core.files.base import ContentFile
from django.core.files.storage import default_storage
from django.db import connection
from django.test import TestCase, TransactionTestCase
from django.urls import reverse
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from didactor.library import notation
from didactor.library.models import Engraving
from didactor.library.services import add_piece
from didactor.practice.jobs import hear_attempt
from didactor.takes import pieces, services
from didactor.takes.models import Submission, Take, Upload
from didactor.takes.services import append_to_upload, begin_upload, submit_take
from didactor.takes.upkeep import discard_stale_uploads, sweep_files
from didactor.web.store import FolderStore
from tests import scene as scenes
from tests.music import musicxml, wav

BACKEND = "didactor.people.backends.PasswordBackend"


class PowerCutTests(scenes.OwnFolders, TestCase):
    """What a row names has reached the disk before the row is kept."""

    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        self.data = wav(seed=31)
        self.done: list[str] = []

    def upload(self) -> Upload:
        return begin_upload(student=self.scene.ylva.student, task=self.scene.task, filename="take.wav", length=len(self.data))

    def send(self, upload: Upload, start: int, end: int | None) -> Upload:
        body = io.BytesIO(self.data[start:end])
        return append_to_upload(upload_id=upload.pk, owner=self.scene.ylva.student, offset=start, body=body)

    def test_a_piece_is_on_the_disk_before_its_upload_says_so(self):
        upload = self.upload()
        order = []
        with (
            mock.patch.object(pieces, "on_disk", side_effect=lambda path: order.append(("disk", path.stat().st_size))),
            mock.patch.object(Upload, "save", side_effect=lambda **fields: order.append(("row", 0))),
        ):
            self.send(upload, 0, 50_000)
        self.assertEqual(order, [("disk", 50_000), ("row", 0)])

    def test_power_that_goes_before_the_row_costs_that_piece_alone(self):
        upload = self.upload()
        self.send(upload, 0, 50_000)
        with mock.patch.object(Upload, "save", side_effect=SystemExit), self.assertRaises(SystemExit):
            self.send(upload, 50_000, 90_000)
        self.assertEqual(Upload.objects.get(pk=upload.pk).offset, 50_000)
        self.assertGreater(upload.path.stat().st_size, 50_000, "half a piece lies there")
        take = self.send(upload, 50_000, None).take
        self.assertEqual(default_storage.open(take.original.name).read(), self.data)

    def test_a_recording_has_its_name_when_all_of_it_is_on_the_disk(self):
        order = []
        rename = Path.rename
        with (
            mock.patch.object(services, "on_disk", side_effect=lambda path: order.append(path.suffix or "whole")),
            mock.patch.object(Path, "rename", lambda path, to: [order.append("named"), rename(path, to)][1]),
        ):
            self.send(self.upload(), 0, None)
        self.assertEqual(order, [".part", "named", "whole"])

    def test_so_has_every_other_file(self):
        with mock.patch("didactor.web.store.os.fsync") as fsync:
            FolderStore(location=settings.MEDIA_ROOT).save("said/x.mp4", ContentFile(b"sound"))
        self.assertEqual(fsync.call_count, 2, "the file, and its name in its folder")


class ClockTests(scenes.OwnFolders, TestCase):
    """A clock is put an hour back, or a year on and back again."""

    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        self.client.force_login(self.scene.teacher, backend=BACKEND)

    def at(self, moment: object) -> mock._patch:
        return mock.patch("django.utils.timezone.now", return_value=moment)

    def test_takes_stay_in_order_and_nothing_waits_since_tomorrow(self):
        now = timezone.now()
        first = scenes.recorded(self.scene, hear=True)
        with self.at(now - timedelta(hours=1)):
            second = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
            self.assertEqual((first.number, second.number), (1, 2))
            submit_take(take=Take.objects.get(pk=second.pk))
        Submission.objects.update(submitted_at=now + timedelta(hours=2))
        page = self.client.get(reverse("review:waiting"))
        self.assertContains(page, "Ylva")
        self.assertNotRegex(page.content.decode(), r"-\d+\s(minute|hour|day)")
        self.assertContains(page, "0\xa0minutes")

    def test_an_upload_of_next_year_is_finished_and_not_swept_away_as_old(self):
        data = wav(seed=32)
        with self.at(timezone.now() + timedelta(days=365)):
            upload = begin_upload(student=self.scene.ylva.student, task=self.scene.task, filename="take.wav", length=len(data))
        self.assertEqual(discard_stale_uploads(), 0)
        sweep_files()
        done = append_to_upload(upload_id=upload.pk, owner=self.scene.ylva.student, offset=0, body=io.BytesIO(data))
        self.assertEqual(done.take.size, len(data))


class ErasedMeanwhileTests(scenes.OwnFolders, TransactionTestCase):
    def test_a_piece_that_is_erased_while_it_is_drawn_is_drawn_for_who_looks(self):
        owner = scenes.teacher("Outer light", "hedda")
        with tempfile.TemporaryFile() as upload:
            upload.write(musicxml())
            upload.flush()
            piece = add_piece(teacher=owner, upload=upload, filename="tune.musicxml")
        Engraving.objects.all().delete()
        draw = notation.engrave_isolated

        def erased(*asked: object) -> object:
            drawn = draw(*asked)
            piece.delete()
            return drawn

        with mock.patch.object(notation, "engrave_isolated", side_effect=erased):
            found = notation.engravings_of(revision=piece.current, part=1, bars="")
        self.assertTrue(found and all("<svg" in one.svg for one in found.values()))
        self.assertFalse(Engraving.objects.exists())


class LongQueueTests(scenes.OwnFolders, TransactionTestCase):
    def setUp(self):
        # The queue's tables are not Django's to empty: what others left goes too.
        self.empty_the_queue()
        self.addCleanup(self.empty_the_queue)

    def empty_the_queue(self):
        with connection.cursor() as cursor:
            cursor.execute("DELETE FROM procrastinate_jobs")
            cursor.execute("DELETE FROM procrastinate_workers")

    def test_with_five_thousand_waiting_who_practises_comes_first_and_pages_stay_quick(self):
        scene = scenes.build(listen_first=False)
        with connection.cursor() as cursor:
            cursor.executemany(
                "INSERT INTO procrastinate_jobs (queue_name, task_name, priority, args) VALUES (%s, %s, %s, %s::jsonb)",
                [("takes", "didactor.takes.jobs.analyse_take", -(k % 40), f'{{"take_id": {k}}}') for k in range(5000)],
            )
        self.assertEqual(ProcrastinateJob.objects.filter(status="todo", queue_name="takes").count(), 5000)
        hear_attempt.defer(attempt_id="00000000-0000-0000-0000-000000000000")
        began = time.monotonic()
        worker_app = app.with_connector(app.connector.get_worker_connector())

        async def fetched() -> str:
            async with worker_app.open_async():
                number = await worker_app.job_manager.register_worker()
                job = await worker_app.job_manager.fetch_job(queues=["takes"], worker_id=number)
                return str(job.task_name)

        self.assertEqual(async_to_sync(fetched)(), "didactor.practice.jobs.hear_attempt")
        self.assertLess(time.monotonic() - began, 2.0)
        self.client.force_login(scene.teacher, backend=BACKEND)
        for url in (reverse("review:waiting"), reverse("troubles")):
            self.client.get(url)
            began = time.monotonic()
            self.assertEqual(self.client.get(url).status_code, 200)
            self.assertLess(time.monotonic() - began, 1.0, url)
