"""Who waits for an ear, on one machine: a process of its own keeps the turns for all processes that serve pages.

Each attempt is heard once at a time, in the order in which they came, and while it plays on before its last note is due nobody needs to
listen. Nothing here must be kept: begun anew, it asks the ears once more.
"""

from __future__ import annotations

import math
import socket
import threading
import uuid
from collections import OrderedDict
from collections.abc import Callable, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from typing import Any, NamedTuple

from didactor.core.practising.ending import surely_sounds
from didactor.practice.line import ANSWER_S, AWAY, GOING, answer_line, asked_on

#: What was found for so many pages that may have been closed is kept, and of how many attempts it is known when they are due to end.
MOST_KEPT, MOST_KNOWN = 32, 500


class Answer(NamedTuple):
    """How an attempt stands, and from which second of its sound on it may be over while it still sounds; ``waits``: for its turn."""

    state: str
    from_s: float = 0.0
    waits: bool = False


class Turns:
    """Who waits for an ear: as many are heard as listen, the others in the order in which they came, each once.

    ``hear`` asks an ear, and waits for it.
    """

    def __init__(self, listening: int, hear: Callable[[uuid.UUID], Answer]) -> None:
        self._pool = ThreadPoolExecutor(max(1, listening), thread_name_prefix="ear")
        self._lock = threading.Lock()
        self._waiting: dict[uuid.UUID, Future[Answer]] = {}
        self._listening, self._hear = max(1, listening), hear

    def ask(self, attempt_id: uuid.UUID, *, last: bool) -> Answer:
        """How it stands; ``going`` at once where all listen to others, so that no thread waits that pages need: the next piece is told
        what was found. What was asked with the ``last`` piece has no next, and waits its turn.
        """
        with self._lock:
            found, free = self._waiting.get(attempt_id), False
            if found is not None and found.done() and found.result().state != GOING:
                return self._waiting.pop(attempt_id).result()
            if found is None or found.done() or last:
                free = sum(not one.done() for one in self._waiting.values()) < self._listening
                found = self._waiting[attempt_id] = self._pool.submit(self._hear, attempt_id)
                self._forget_old()
        if not free and not last:
            return Answer(GOING, waits=True)
        try:
            answer = found.result(timeout=ANSWER_S)
        except TimeoutError:
            return Answer(AWAY)
        with self._lock:
            if self._waiting.get(attempt_id) is found:
                del self._waiting[attempt_id]
        return answer

    def _forget_old(self) -> None:
        """What was found for a page that was closed meanwhile is asked for by nobody."""
        for attempt_id in [one for one, found in self._waiting.items() if found.done()][:-MOST_KEPT]:
            del self._waiting[attempt_id]


class Pieces:
    """What is known of attempts whose pieces come in: when one may be over, and how loud it was."""

    def __init__(self, turns: Turns) -> None:
        self._turns = turns
        self._lock = threading.Lock()
        self._known: OrderedDict[uuid.UUID, tuple[float, float]] = OrderedDict()

    def ask(self, attempt_id: uuid.UUID, *, level_db: float | None, heard_s: float, last: bool) -> Answer:
        """How an attempt stands whose next piece was so loud (None: too short to say), with so many seconds of sound in all."""
        with self._lock:
            from_s, loudest_db = self._known.get(attempt_id, (0.0, -math.inf))
        sounds = level_db is not None and surely_sounds(level_db, loudest_db)
        answer = Answer(GOING)
        if last or not sounds or heard_s >= from_s:
            answer = self._turns.ask(attempt_id, last=last)
        with self._lock:
            self._known[attempt_id] = (answer.from_s or from_s, max(loudest_db, -math.inf if level_db is None else level_db))
            while len(self._known) > MOST_KNOWN:
                self._known.popitem(last=False)
        return answer


def keep_the_door(door: socket.socket, pieces: Pieces) -> None:
    """Answer the processes that serve pages, each on a thread of its own: most of them only wait. Does not come back."""
    while True:
        line, _ = door.accept()
        threading.Thread(target=_answer, args=(line, pieces), daemon=True).start()


def _answer(line: socket.socket, pieces: Pieces) -> None:
    def told(request: Mapping[str, Any]) -> dict[str, Any]:
        level = request["level_db"]
        answer = pieces.ask(
            uuid.UUID(str(request["attempt"])),
            level_db=None if level is None else float(level),
            heard_s=float(request["heard_s"]),
            last=bool(request["last"]),
        )
        return {"state": answer.state, "waits": answer.waits}

    with line:
        answer_line(line, told, otherwise={"state": AWAY})


def of_the_ears(attempt_id: uuid.UUID) -> Answer:
    """How an attempt stands, by one of the processes that listen."""
    told = asked_on("ears", {"attempt": str(attempt_id)}, ANSWER_S)
    with suppress(KeyError, TypeError, ValueError):
        return Answer(str(told["state"]), float(told["from_s"]))
    return Answer(AWAY)
