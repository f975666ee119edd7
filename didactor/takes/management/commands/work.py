from __future__ import annotations

import asyncio
import logging
import os
import signal
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from procrastinate.contrib.django import app

#: A running job gets this long to finish when the worker is told to stop.
GRACE_S = 4.0


class Command(BaseCommand):
    """The worker: hears takes and renders models, and looks after the jobs of workers that died.

    Three workers share the process, so that nothing waits on work of another kind: takes are heard in several slots, models and
    engravings are made in one, and the upkeep has one of its own, so that a killed worker's jobs are found while the others are busy.
    """

    help = "Run the worker."

    def handle(self, *args: Any, **options: Any) -> None:
        logging.getLogger("procrastinate").setLevel(logging.WARNING)
        asyncio.run(self._run())

    async def _run(self) -> None:
        worker_app = app.with_connector(app.connector.get_worker_connector())  # type: ignore[attr-defined]
        defaults: dict[str, Any] = settings.PROCRASTINATE_WORKER_DEFAULTS
        async with worker_app.open_async():
            workers = [
                asyncio.ensure_future(
                    worker_app.run_worker_async(
                        queues=[queue],
                        name=queue,
                        concurrency=slots,
                        install_signal_handlers=False,
                        shutdown_graceful_timeout=GRACE_S,
                        **defaults,
                    )
                )
                for queue, slots in (("takes", settings.HEARING_SLOTS), ("default", 1), ("letters", 1), ("upkeep", 1))
            ]
            loop = asyncio.get_running_loop()
            for number in (signal.SIGTERM, signal.SIGINT):
                loop.add_signal_handler(number, lambda: [worker.cancel() for worker in workers])
            await asyncio.gather(*workers, return_exceptions=True)
        # A job that is still running in its thread is left: it will be taken up again.
        os._exit(0)
