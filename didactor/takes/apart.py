"""The ear in a process apart: it may use so much memory and time and no more, and when it dies the worker lives on.

Each thread of the worker that hears has a warm process of its own; loading the models takes seconds, hearing a minute takes two.
"""

from __future__ import annotations

import ctypes
import multiprocessing
import resource
import signal
import threading
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures import TimeoutError as NotInTime
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from didactor.core.analyse import analyse
from didactor.core.errors import BusyError, SandboxError
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.result import Result
from didactor.core.words import worded

#: Address space of a process that hears: twenty minutes of two hands need some 1.5 GB above what is loaded.
MOST_MEMORY = 6_000_000_000
#: Seconds of processor time: no take of twenty minutes needs a quarter of it. And by the clock, after which it is put off: that says
#: something of the machine, nothing of the take.
MOST_CPU_S, LONGEST_S = 1800, 3600.0

_PR_SET_PDEATHSIG = 1
_own = threading.local()


def _limit() -> None:
    # It dies with the worker's thread that started it, however that ends.
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _hear(arguments: dict[str, Any]) -> Result:
    # Counted from now on: the process is warm and has heard others.
    used = resource.getrusage(resource.RUSAGE_SELF)
    resource.setrlimit(resource.RLIMIT_CPU, (int(used.ru_utime + used.ru_stime) + MOST_CPU_S, resource.RLIM_INFINITY))
    return result_of(analyse(**arguments))


def hear_here(**arguments: Any) -> Result:
    """The same in this very process, for tests and the demo."""
    return result_of(analyse(**arguments))


def hear_apart(**arguments: Any) -> Result:
    """``analyse`` in this thread's own process.

    Raises:
        CoreError: what the ear says of the take; ``SandboxError`` when it ran out of memory or processor time, or died; ``BusyError``
            when the machine gave it too little of that.
    """
    pool = getattr(_own, "pool", None)
    if pool is None:
        pool = _own.pool = ProcessPoolExecutor(max_workers=1, mp_context=multiprocessing.get_context("spawn"), initializer=_limit)
    try:
        result: Result = pool.submit(_hear, arguments).result(timeout=LONGEST_S)
    except NotInTime as error:
        _own.pool = None
        for process in list(pool._processes.values()):
            process.kill()
        pool.shutdown(wait=False, cancel_futures=True)
        raise BusyError("hearing.busy", worded("There is much to do here just now: this take will be heard a little later.")) from error
    except (BrokenProcessPool, MemoryError) as error:
        _own.pool = None
        pool.shutdown(wait=False, cancel_futures=True)
        raise SandboxError("hearing.too_much", worded("This take could not be heard with the memory and time allowed for one.")) from error
    return result


def end_apart() -> None:
    """End this thread's own process, if it has one."""
    pool = getattr(_own, "pool", None)
    if pool is not None:
        _own.pool = None
        pool.shutdown()
