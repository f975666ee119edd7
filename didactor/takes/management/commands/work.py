from __future__ import annotations

import asyncio
import logging
import os
import signal
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from procrastinate.contrib.django import app

from didactor.takes.lifeline import Lifeline, Living

#: A running job gets this long to finish when the worker is told to stop.
GRACE_S = 4.0
#: And so long the worker waits for its parts, whatever they wait for.
LAST_S = 10.0

logger = logging.getLogger(__name__)


class Parts:
    """Workers that go down together: one that broke, for want of a database, say, must not be missed by nobody while the others go on."""

    def __init__(self, parts: dict[str, asyncio.Future[Any]]) -> None:
        self._parts = parts
        self._stopping = False

    def stop(self) -> None:
        """Ask each to end, once: asked twice it would not let its jobs finish."""
        if not self._stopping:
            self._stopping = True
            for part in self._parts.values():
                part.cancel()

    async def ended(self) -> str:
        """Wait until all have ended, the others some seconds after the first. Returns which one ended unasked, if one did."""
        await asyncio.wait(self._parts.values(), return_when=asyncio.FIRST_COMPLETED)
        broken = "" if self._stopping else next(name for name, part in self._parts.items() if part.done())
        self.stop()
        await asyncio.wait(self._parts.values(), timeout=LAST_S)
        return broken


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
        lifeline = Lifeline()
        await lifeline.open()
        async with worker_app.open_async():
            worker_app.job_manager = Living(worker_app, lifeline)
            queues = {"takes": settings.HEARING_SLOTS, "default": 1, "letters": 1, "upkeep": 1}
            workers = [
                asyncio.ensure_future(
                    worker_app.run_worker_async(
                        queues=[queue],
                        name=queue,
                        concurrency=slots,
                        install_signal_handlers=False,
                        shutdown_graceful_timeout=GRACE_S,
                    )
                )
                for queue, slots in queues.items()
            ]
            parts = Parts({**dict(zip(queues, workers, strict=True)), "its session": asyncio.ensure_future(lifeline.broken())})
            loop = asyncio.get_running_loop()
            for number in (signal.SIGTERM, signal.SIGINT):
                loop.add_signal_handler(number, parts.stop)
            broken = await parts.ended()
            await lifeline.close()
        # A job that is still running in its thread is left: it will be taken up again.
        if broken:
            logger.error("the worker for %s ended; all of it ends, to be started anew", broken)
        os._exit(1 if broken else 0)
