"""The queue: a job comes with its take or not at all, a worker does it, and a dead worker's job is taken up again."""

from __future__ import annotations

import asyncio
import multiprocessing
import os
import threading
import time
from typing import Any
from unittest import mock

from asgiref.sync import sync_to_async
from django.db import connection, connections, transaction
from django.test import SimpleTestCase, TransactionTestCase
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob, ProcrastinateWorker

from didactor.core.errors import BusyError, PassageError, SandboxError
from didactor.core.judging.targets import Targets
from didactor.takes.apart import end_apart, hear_apart
from didactor.takes.jobs import analyse_take, retry_stalled
from didactor.takes.lifeline import Lifeline, living_workers
from didactor.takes.management.commands import work
from didactor.takes.management.commands.work import Parts
from didactor.takes.models import Take, TakeState
from didactor.takes.services import _turn
from didactor.web.again import AGAIN
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


def end_sessions_of(worker_id: int) -> None:
    """As an operator does, or a server that is restarted."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND objid = %s", [worker_id])
    connection.close()


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

    def upkeep(self) -> None:
        async def go() -> None:
            with app.replace_connector(app.connector.get_worker_connector()) as worker_app:
                async with worker_app.open_async():
                    await retry_stalled.func(timestamp=0)

        in_a_thread(lambda: asyncio.run(go()))

    def taken_by(self, worker_id: int | None) -> None:
        """The job is being done by a worker with this number."""
        with connection.cursor() as cursor:
            cursor.execute(
                "UPDATE procrastinate_jobs SET status = 'doing', worker_id = %s WHERE id = %s", [worker_id, self.jobs().get().pk]
            )

    def lose_worker(self) -> None:
        """The upkeep comes by after a worker took the job and died: nobody holds its lock."""
        with connection.cursor() as cursor:
            cursor.execute("INSERT INTO procrastinate_workers DEFAULT VALUES RETURNING id")
            [worker_id] = cursor.fetchone()
        self.taken_by(worker_id)
        self.upkeep()

    def test_a_worker_that_is_silent_is_not_lost_while_its_session_stands(self) -> None:
        scenes.recorded(self.scene, hear=False)
        said: list[int] = []

        async def lives() -> None:
            lifeline = Lifeline()
            await lifeline.open()
            said.append(await lifeline.register())
            await sync_to_async(self.silent_since_yesterday, thread_sensitive=False)(said[0])
            await sync_to_async(self.upkeep, thread_sensitive=False)()
            said.append(await sync_to_async(living_workers, thread_sensitive=False)())
            await lifeline.close()

        in_a_thread(lambda: asyncio.run(lives()))
        self.assertEqual((self.jobs().get().status, said[1]), ("doing", 1))
        self.upkeep()
        # Its job is another's now, and it is forgotten.
        self.assertEqual((self.jobs().get().status, ProcrastinateWorker.objects.count()), ("todo", 0))

    def silent_since_yesterday(self, worker_id: int) -> None:
        with connection.cursor() as cursor:
            cursor.execute("UPDATE procrastinate_workers SET last_heartbeat = now() - interval '1 day' WHERE id = %s", [worker_id])
        self.taken_by(worker_id)
        connection.close()

    def test_a_session_that_is_ended_ends_the_worker(self) -> None:
        async def broken() -> None:
            lifeline = Lifeline()
            await lifeline.open()
            number = await lifeline.register()
            watch = asyncio.ensure_future(lifeline.broken())
            await sync_to_async(end_sessions_of, thread_sensitive=False)(number)
            await asyncio.wait_for(watch, 10)

        with mock.patch("didactor.takes.lifeline.LOOKS_EACH_S", 0.05):
            in_a_thread(lambda: asyncio.run(broken()))

    def test_one_take_is_never_heard_twice_at_once(self) -> None:
        take = scenes.recorded(self.scene, hear=False)
        at_it, most = [0], [0]
        turn = threading.Lock()

        def hear(heard: Take) -> None:
            with turn:
                at_it[0] += 1
                most[0] = max(most[0], at_it[0])
            time.sleep(0.3)
            with turn:
                at_it[0] -= 1
            Take.objects.filter(pk=heard.pk).update(state=TakeState.STORED)

        with mock.patch("didactor.takes.jobs.hear_take", hear):
            threads = [threading.Thread(target=in_a_thread, args=(lambda: analyse_take(take_id=take.pk),)) for _ in range(3)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual((most[0], at_it[0]), (1, 0))

    def test_a_busy_machine_puts_a_take_off_and_says_nothing_of_it(self) -> None:
        take = scenes.recorded(self.scene, hear=False)
        with mock.patch("didactor.takes.jobs.hear_take", side_effect=BusyError("hearing.busy", "Later.")):
            in_a_thread(run_worker)
        take.refresh_from_db()
        job = self.jobs().get()
        self.assertEqual((take.state, str(take.trouble), job.status), (TakeState.STORED, "", "todo"))
        self.assertGreater(job.scheduled_at, timezone.now())
        for attempts, again in ((3, True), (50, True)):
            self.assertEqual(AGAIN.get_retry_decision(exception=BusyError("x", "x"), job=mock.Mock(attempts=attempts)) is not None, again)
        self.assertIsNone(AGAIN.get_retry_decision(exception=KeyError(), job=mock.Mock(attempts=4)))

    def test_the_job_of_a_dead_worker_is_taken_up_again(self) -> None:
        take = scenes.recorded(self.scene, hear=False)
        self.lose_worker()
        self.assertEqual(self.jobs().get().status, "todo")
        in_a_thread(run_worker)
        take.refresh_from_db()
        self.assertEqual((take.state, take.lost), (TakeState.ANALYSED, 1))

    def test_a_job_that_kills_its_worker_time_and_again_is_given_up_with_words(self) -> None:
        take = scenes.recorded(self.scene, hear=False)
        for _ in range(2):
            self.lose_worker()
            self.assertEqual(self.jobs().get().status, "todo")
        with self.assertLogs("didactor.takes.jobs", "ERROR"):
            self.lose_worker()
        take.refresh_from_db()
        self.assertEqual((self.jobs().get().status, take.state), ("failed", TakeState.FAILED))
        self.assertIn("not tried again", take.trouble)

    def test_workers_that_were_asked_to_end_lose_nothing_however_often(self) -> None:
        take = scenes.recorded(self.scene, hear=False)
        for _ in range(5):
            self.taken_by(None)
            self.upkeep()
            self.assertEqual(self.jobs().get().status, "todo")
        take.refresh_from_db()
        self.assertEqual((take.lost, take.state), (0, TakeState.STORED))

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
        with mock.patch("didactor.takes.apart.LONGEST_S", 0.5), self.assertRaisesMessage(BusyError, "a little later"):
            hear_apart(**{**self.arguments(), "recording": Waiting()})
        # The next one is heard by a new process, and what the ear refuses comes through in its own words.
        self.assertTrue(hear_apart(**self.arguments()).is_usable)
        with self.assertRaisesMessage(PassageError, "chord symbols"):
            hear_apart(**{**self.arguments(), "targets": Targets(tempo_qpm=92.0, step="chords")})


class Deadly:
    """Kills whoever unpacks it."""

    def __reduce__(self) -> Any:
        return (os._exit, (9,))
