"""Who of the workers lives, and that nothing is done twice at a time: told by locks that PostgreSQL keeps for a session.

A worker holds a lock under its number for as long as its session with the database lasts. Nothing needs to be done for it: a worker
that is slow, or that the machine gives no time, still holds it; a process that died, a machine that is gone (by the keepalives of TCP)
or a session that broke does not. Heartbeats, which tell a slow worker from a dead one by a clock, are not asked.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import psycopg
from django.db import connection
from procrastinate.app import App
from procrastinate.contrib.django.utils import connector_params
from procrastinate.jobs import Job
from procrastinate.manager import JobManager

#: The first of the two numbers of a lock: whether it is a worker's or a take's.
WORKERS, TAKES = 7301, 7302
#: After so many seconds the server knows that a machine which went without a word is gone: 10 + 4 x 5.
KEEPALIVES = "-c tcp_keepalives_idle=10 -c tcp_keepalives_interval=5 -c tcp_keepalives_count=4"
#: So often a worker looks whether its own session still stands.
LOOKS_EACH_S = 5.0
#: How the second number of a lock is made of a row's: the lock takes 31 bits of it.
_HOLDS = """EXISTS (SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND granted AND objsubid = 2 AND classid = {what}
    AND objid = {row} & 2147483647 AND database = (SELECT oid FROM pg_database WHERE datname = current_database()))"""
_LIVES = _HOLDS.format(what=WORKERS, row="worker.id")
_LOST = f"""SELECT job.id, job.status, job.task_name, job.priority, job.lock, job.queueing_lock, job.args, job.scheduled_at, job.queue_name,
    job.attempts, job.worker_id FROM procrastinate_jobs job LEFT JOIN procrastinate_workers worker ON worker.id = job.worker_id
    WHERE job.status = 'doing' AND (worker.id IS NULL OR NOT {_LIVES})"""
_FORGET = f"""DELETE FROM procrastinate_workers worker WHERE NOT {_LIVES}
    AND NOT EXISTS (SELECT 1 FROM procrastinate_jobs job WHERE job.worker_id = worker.id AND job.status = 'doing')"""
_COUNT = f"SELECT count(*) FROM procrastinate_workers worker WHERE {_LIVES}"


class Lifeline:
    """One session with the database, which holds the locks of all workers of this process."""

    def __init__(self) -> None:
        self._session: psycopg.AsyncConnection[Any] | None = None
        self._turn = asyncio.Lock()

    async def open(self) -> None:
        params = connector_params()
        params["options"] = f"{params.get('options', '')} {KEEPALIVES}".strip()
        self._session = await psycopg.AsyncConnection.connect(**{**params, "autocommit": True, "row_factory": psycopg.rows.tuple_row})

    async def _ask(self, question: str, *values: Any) -> Any:
        assert self._session is not None
        async with self._turn, self._session.cursor() as cursor:
            await cursor.execute(question, values)
            return await cursor.fetchone()

    async def register(self) -> int:
        """A new worker's number; its lock is held before anybody else can see the number."""
        [number, _] = await self._ask(
            f"WITH made AS (INSERT INTO procrastinate_workers DEFAULT VALUES RETURNING id)"
            f" SELECT id, pg_advisory_lock({WORKERS}, (id & 2147483647)::int) FROM made"
        )
        return int(number)

    async def release(self, number: int) -> None:
        await self._ask(f"SELECT pg_advisory_unlock({WORKERS}, %s)", number & 2147483647)

    async def broken(self) -> None:
        """Ends when the session does: from then on others may take this process's jobs, so it has to end as well."""
        while True:
            await asyncio.sleep(LOOKS_EACH_S)
            try:
                await self._ask("SELECT 1")
            except psycopg.Error:
                return

    async def close(self) -> None:
        if self._session is not None:
            await self._session.close()


class Living(JobManager):
    """The queue's manager, for workers that hold a lock."""

    def __init__(self, of: App, lifeline: Lifeline) -> None:
        super().__init__(of.connector)
        self._lifeline = lifeline

    async def register_worker(self) -> int:
        return await self._lifeline.register()

    async def unregister_worker(self, worker_id: int) -> None:
        await super().unregister_worker(worker_id)
        await self._lifeline.release(worker_id)

    async def prune_stalled_workers(self, seconds_since_heartbeat: float) -> list[int]:
        """Nobody is forgotten for a heartbeat that is late; ``forget_the_dead`` does it."""
        return []


async def lost_jobs(manager: JobManager) -> list[Job]:
    """Jobs that are being done by nobody who lives. Of a worker that ended in order no number is left (``worker_id`` is None)."""
    return [Job.from_row(row) for row in await manager.connector.execute_query_all_async(_LOST)]


async def forget_the_dead(manager: JobManager) -> None:
    """Take dead workers, whose jobs went to others, from the list."""
    await manager.connector.execute_query_async(_FORGET)


def living_workers() -> int:
    with connection.cursor() as cursor:
        cursor.execute(_COUNT)
        return int(cursor.fetchone()[0])


@contextmanager
def alone(what: int, row: int) -> Iterator[None]:
    """Nobody else is at this row of this kind (``TAKES``) meanwhile, on whatever machine; who comes second waits. Not in a transaction:
    it is kept for as long as the work lasts, or the session with the database does.
    """
    numbers = [what, row & 2147483647]
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_lock(%s, %s)", numbers)
    try:
        yield
    finally:
        # A session that broke has let it go.
        if connection.connection is not None and not connection.connection.closed:
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_advisory_unlock(%s, %s)", numbers)
