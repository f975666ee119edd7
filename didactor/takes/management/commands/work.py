from __future__ import annotations

import asyncio
import logging
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from procrastinate.contrib.django import app


class Command(BaseCommand):
    """The worker: hears takes and renders models, and looks after the jobs of workers that died.

    Two workers share the process: the long work has one slot, and the upkeep one of its own, so that a killed worker's jobs
    are found while this one is busy.
    """

    help = "Run the worker."

    def handle(self, *args: Any, **options: Any) -> None:
        logging.getLogger("procrastinate").setLevel(logging.WARNING)
        asyncio.run(self._run())

    async def _run(self) -> None:
        worker_app = app.with_connector(app.connector.get_worker_connector())
        defaults = settings.PROCRASTINATE_WORKER_DEFAULTS
        async with worker_app.open_async():
            await asyncio.gather(
                worker_app.run_worker_async(queues=["takes", "default"], name="hearing", concurrency=1, **defaults),
                worker_app.run_worker_async(queues=["upkeep"], name="upkeep", concurrency=1, **defaults),
            )
