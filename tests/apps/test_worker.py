"""The queue: a job comes with its take or not at all, a worker does it, and a dead worker's job is taken up again."""

from __future__ import annotations

import asyncio
import multiprocessing
import os
import threading
from datetime import timedelta
from typing import Any
from unittest import mock

from django.conf import settings
from django.db import connection, connections, transaction
from django.test import SimpleTestCase, TransactionTestCase
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob, ProcrastinateWorker

from didactor.core.errors import PassageError, SandboxError
from didactor.core.judging.targets import Targets
from didactor.takes.apart import end_apart, hear_apart
from didactor.takes.jobs import retry_stalled
from didactor.takes.management.commands import work
from didactor.takes.management.commands.work import Parts
from didactor.takes.models import Take, TakeState
from didactor.takes.services import _turn
from tests import scene as scenes
from tests.music import TUNE, expectation, played, silence
from tests.waiting import Waiting


def in_a_thread(work: Any) -> None:
    """Run the worker's own event loop beside the test's, with connections of its own."""
    failures: list[BaseException] = []

    def run() -> None:
        try:
            work()
        except BaseException as error:
            failures.append(error)
        finally:
            connections.close_all()

    thread = threading.Thread(target=run)
    thread.start()
    thread.join()
    if failures:
        raise failures[0]


def run_worker() -> None:
    with app.replace_connector(app.connector.get_worker_connector()) as worker_app:
        worker_app.run_worker(wait=False, queues=["takes"], install_signal_handlers=False, listen_notify=False)


class QueueTests(scenes.OwnFolders, TransactionTestCase):
    def setUp(self) -> None:
        # The queue's tables are not Django's own: flushing between tests leaves them.
        self.empty_the_queue()
        self.addCleanup(self.empty_the_queue)
        self.scene = scenes.build()

    @classmethod
    def tearDownClass(cls) -> None:
        # The worker's own threads keep their connections; the test database could not be dropped.
        with connection.cursor() as cursor:
            others = "FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
            cursor.execute(f"SELECT pg_terminate_backend(pid) {others}")
        super().tearDownClass()

    def empty_the_queue(self) -> None:
        with connection.cursor() as cursor:
            cursor.execute("TRUNCATE procrastinate_jobs, procrastinate_events, procrastinate_workers CASCADE")

    def jobs(self) -> Any:
        return ProcrastinateJob.objects.filter(task_name="didactor.takes.jobs.analyse_take")

    def test_a_rolled_back_take_leaves_no_job(self) -> None:
        class Changed(Exception):
            pass

        with self.assertRaises(Changed), transaction.atomic():
            scenes.recorded(self.scene, hear=False)
            raise Changed
        self.assertEqual((Take.objects.count(), self.jobs().count()), (0, 0))

    def test_a_worker_hears_what_waits(self) -> None:
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0}, hear=False)
        in_a_thread(run_worker)
        take.refresh_from_db()
        self.assertEqual(take.state, TakeState.ANALYSED)
        self.assertEqual(self.jobs().get().status, "succeeded")

    def lose_worker(self, attempts: int) -> None:
        """The upkeep comes by after a worker took the job and died."""
        job = self.jobs().get()
        # A worker that took the job and fell silent, as a killed one does.
        silent = timezone.now() - timedelta(seconds=settings.PROCRASTINATE_WORKER_DEFAULTS["stalled_worker_timeout"] + 5)
        with connection.cursor() as cursor:
            cursor.execute("INSERT INTO procrastinate_workers (last_heartbeat) VALUES (%s) RETURNING id", [silent])
            [worker_id] = cursor.fetchone()
            cursor.execute(
                "UPDATE procrastinate_jobs SET status = 'doing', worker_id = %s, attempts = %s WHERE id = %s",
                [worker_id, attempts, job.pk],
            )
        self.assertEqual(ProcrastinateWorker.objects.count(), 1)

        def upkeep() -> None:
            import asyncio

            async def go() -> None:
                with app.replace_connector(app.connector.get_worker_connector()) as worker_app:
                    async with worker_app.open_async():
                        await retry_stalled.func(timestamp=0)

            asyncio.run(go())

        in_a_thread(upkeep)

    def test_the_job_of_a_dead_worker_is_taken_up_again(self) -> None:
        take = scenes.recorded(self.scene, hear=False)
        self.lose_worker(attempts=1)
        self.assertEqual(self.jobs().get().status, "todo")
        in_a_thread(run_worker)
        take.refresh_from_db()
        self.assertEqual(take.state, TakeState.ANALYSED)

    def test_a_job_that_kills_its_worker_twice_is_given_up_with_words(self) -> None:
        take = scenes.recorded(self.scene, hear=False)
        with self.assertLogs("didactor.takes.jobs", "ERROR"):
            self.lose_worker(attempts=2)
        take.refresh_from_db()
        self.assertEqual((self.jobs().get().status, take.state), ("failed", TakeState.FAILED))
        self.assertIn("not tried again", take.trouble)

    def test_those_who_wait_for_many_come_behind_the_first_of_others(self) -> None:
        for seed in range(3):
            scenes.recorded(self.scene, hear=False, data=silence(3.0 + seed))
        first, second, third = self.jobs().order_by("id").values_list("priority", flat=True)
        self.assertTrue(first > second > third)
        other = self.scene.other_task
        self.assertGreater(_turn(other), third)


class PartsTests(SimpleTestCase):
    """The worker's parts end together: by themselves it begins anew, asked to it lets jobs finish."""

    def run_parts(self, *, asked: bool) -> tuple[str, list[str]]:
        said: list[str] = []

        async def goes_on(name: str) -> None:
            try:
                await asyncio.sleep(30)
            except asyncio.CancelledError:
                said.append(f"{name} asked")
                await asyncio.sleep(0.05)
                said.append(f"{name} ended")

        async def breaks() -> None:
            await asyncio.sleep(30 if asked else 0.01)
            raise OSError("no database")

        async def go() -> str:
            parts = Parts(
                {name: asyncio.ensure_future(goes_on(name)) for name in ("takes", "letters")} | {"upkeep": asyncio.ensure_future(breaks())}
            )
            if asked:
                asyncio.get_running_loop().call_later(0.02, parts.stop)
                asyncio.get_running_loop().call_later(0.04, parts.stop)
            return await parts.ended()

        return asyncio.run(asyncio.wait_for(go(), 10)), said

    def test_one_that_breaks_takes_the_others_with_it_and_is_named(self) -> None:
        broken, said = self.run_parts(asked=False)
        self.assertEqual(broken, "upkeep")
        self.assertEqual(sorted(said), ["letters asked", "letters ended", "takes asked", "takes ended"])

    def test_asked_to_they_end_in_peace_and_none_is_broken(self) -> None:
        broken, said = self.run_parts(asked=True)
        self.assertEqual(broken, "")
        self.assertEqual(sorted(said), ["letters asked", "letters ended", "takes asked", "takes ended"])

    def test_one_that_never_ends_is_not_waited_for(self) -> None:
        async def go() -> str:
            stuck = asyncio.get_running_loop().create_future()
            parts = Parts({"takes": asyncio.ensure_future(asyncio.sleep(0.01)), "letters": asyncio.shield(stuck)})
            with mock.patch.object(work, "LAST_S", 0.05):
                return await parts.ended()

        self.assertEqual(asyncio.run(asyncio.wait_for(go(), 10)), "takes")


class ApartTests(SimpleTestCase):
    def setUp(self) -> None:
        # Tests that run side by side run in daemon processes, which may have no children; the worker is none.
        undone = mock.patch.dict(multiprocessing.current_process()._config, daemon=False)
        undone.start()
        self.addCleanup(undone.stop)
        self.addCleanup(end_apart)

    def arguments(self) -> dict[str, Any]:
        return {"recording": played(), "expectation": expectation(TUNE), "targets": Targets(tempo_qpm=92.0, instrument="clarinet")}

    def test_what_dies_there_does_not_die_here(self) -> None:
        with self.assertRaisesMessage(SandboxError, "memory and time"):
            hear_apart(**{**self.arguments(), "targets": Deadly()})
        with mock.patch("didactor.takes.apart.LONGEST_S", 0.5), self.assertRaisesMessage(SandboxError, "memory and time"):
            hear_apart(**{**self.arguments(), "recording": Waiting()})
        # The next one is heard by a new process, and what the ear refuses comes through in its own words.
        self.assertTrue(hear_apart(**self.arguments()).is_usable)
        with self.assertRaisesMessage(PassageError, "chord symbols"):
            hear_apart(**{**self.arguments(), "targets": Targets(tempo_qpm=92.0, step="chords")})


class Deadly:
    """Kills whoever unpacks it."""

    def __reduce__(self) -> Any:
        return (os._exit, (9,))
