"""How the service stands: whether this process may be sent requests, and figures for whoever watches over it. Nothing of persons."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from typing import Any

from django.conf import settings
from django.core.files.storage import default_storage
from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.registry import Collector, CollectorRegistry

from didactor.takes.lifeline import living_workers
from didactor.web.store import AWAY, is_shared

#: Less room than this and no recording is sure to be kept.
LEAST_FREE_BYTES = 500_000_000

_tables_are_up_to_date = False


def ready() -> dict[str, bool]:
    """What this process needs, one by one: the ``database``, its ``tables`` as this version wants them, and room in the ``store``."""
    found = {"database": False, "tables": False, "store": _store()}
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
        found["database"] = True
        found["tables"] = _tables()
    except DatabaseError:
        pass
    return found


def _store() -> bool:
    if is_shared():
        return _shared_store()
    place = settings.MEDIA_ROOT if os.path.isdir(settings.MEDIA_ROOT) else settings.STATE
    return os.access(place, os.W_OK) and shutil.disk_usage(place).free > LEAST_FREE_BYTES


def _shared_store() -> bool:
    store: Any = default_storage
    try:
        store.bucket.meta.client.head_bucket(Bucket=store.bucket.name)
    except AWAY:
        return False
    return True


def _tables() -> bool:
    """Asked until it is so: a process's own version does not change."""
    global _tables_are_up_to_date
    if not _tables_are_up_to_date:
        executor = MigrationExecutor(connection)
        _tables_are_up_to_date = not executor.migration_plan(executor.loader.graph.leaf_nodes())
    return _tables_are_up_to_date


class Queue(Collector):
    """The queue and the store, read when they are asked for."""

    def describe(self) -> list[Any]:
        # Named when they are read: the database need not be there when a process starts.
        return []

    def collect(self) -> Iterator[GaugeMetricFamily]:
        waiting = GaugeMetricFamily("didactor_jobs", "Jobs by queue and state.", labels=("queue", "state"))
        oldest = GaugeMetricFamily("didactor_oldest_job_seconds", "How long a queue’s longest waiting job has waited.", labels=("queue",))
        workers = GaugeMetricFamily("didactor_workers", "Workers that live: those with a session of their own.")
        takes = GaugeMetricFamily("didactor_takes", "Takes by state.", labels=("state",))
        free = GaugeMetricFamily("didactor_store_free_bytes", "Room left where recordings are kept.")
        with connection.cursor() as cursor:
            cursor.execute("SELECT queue_name, status::text, count(*) FROM procrastinate_jobs WHERE status <> 'succeeded' GROUP BY 1, 2")
            for queue, state, count in cursor.fetchall():
                waiting.add_metric((queue, state), count)
            cursor.execute(
                "SELECT job.queue_name, extract(epoch FROM now() - min(event.at)) FROM procrastinate_jobs job"
                " JOIN procrastinate_events event ON event.job_id = job.id AND event.type = 'deferred'"
                " WHERE job.status = 'todo' AND (job.scheduled_at IS NULL OR job.scheduled_at <= now()) GROUP BY 1"
            )
            for queue, seconds in cursor.fetchall():
                oldest.add_metric((queue,), float(seconds))
            workers.add_metric((), living_workers())
            cursor.execute("SELECT state, count(*) FROM takes_take GROUP BY 1")
            for state, count in cursor.fetchall():
                takes.add_metric((state,), count)
        if os.path.isdir(settings.MEDIA_ROOT):
            free.add_metric((), shutil.disk_usage(settings.MEDIA_ROOT).free)
        yield from (waiting, oldest, workers, takes, free)


#: Besides what is counted of requests in this process.
KEPT = CollectorRegistry()
KEPT.register(Queue())
