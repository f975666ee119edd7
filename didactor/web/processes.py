"""A service in several processes that share what they listen at. One that dies is replaced; all end with the one that began them."""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import signal
import threading
import time
from collections.abc import Callable, Sequence

from django.db import connections

logger = logging.getLogger(__name__)

#: One that ends sooner than this is not begun again at once: it would only end again.
SOON_S = 1.0
#: Python looks for what nobody refers to whenever so many more things were made than went, of three ages. A page makes thousands.
LOOKED_THROUGH_AFTER = (5000, 10, 10)


def leave_what_is_loaded() -> None:
    """From now on what exists is passed over when Python looks for what nobody refers to: it is there to stay.

    To look through all that is loaded held up every page of the process for a third of a second, a dozen times in a few hundred pages
    (``bench/site``). Processes that part afterwards go on sharing its memory.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(*LOOKED_THROUGH_AFTER)


def keep_running(works: Sequence[Callable[[], None]], *, at_end: Callable[[], None] = lambda: None) -> None:
    """Do each of ``works``, which do not come back, in a process of its own until told to stop.

    ``at_end`` is done once, by the one that began them.
    """
    connections.close_all()
    leave_what_is_loaded()
    # Nobody writes into it: when the one that began them is gone, however it went, those who read find its end.
    alive, held = os.pipe()
    children = {_begin(work, alive, held): work for work in works}

    def stop(*_: object) -> None:
        for child in children:
            # One that has just ended must not keep the others going.
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGTERM)
        at_end()
        os._exit(0)

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    while True:
        waited_from = time.monotonic()
        gone, status = os.wait()
        logger.error("a process ended (%s) and is replaced", os.waitstatus_to_exitcode(status))
        work = children.pop(gone)
        if time.monotonic() - waited_from < SOON_S:
            time.sleep(SOON_S)
        children[_begin(work, alive, held)] = work


def _begin(work: Callable[[], None], alive: int, held: int) -> int:
    child = os.fork()
    if child:
        return child
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.close(held)
    try:
        threading.Thread(target=_end_with_it, args=(alive,), daemon=True).start()
        work()
    finally:
        os._exit(1)


def _end_with_it(alive: int) -> None:
    os.read(alive, 1)
    os._exit(0)
