"""The ear while somebody practises: processes that stay warm and answer on a socket of this machine within a second.

A web process hands an attempt's number over and gets back how it stands; the sound itself lies in a file that both can read. One request
is one line each way. Where nobody answers, the attempt is kept and heard by the worker: then the count comes a little later.
"""

from __future__ import annotations

import json
import logging
import math
import os
import socket
import tempfile
import threading
import uuid
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

import numpy as np
from django.conf import settings
from django.db import close_old_connections

from didactor.core.errors import CoreError
from didactor.core.practising.attempt import Asked, attend
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.ending import Look, surely_sounds
from didactor.core.practising.verdict import Verdict
from didactor.core.sound.recording import RATE_HZ
from didactor.practice.hearing import asked, samples_of, settle
from didactor.practice.jobs import keep_sound
from didactor.practice.models import Attempt
from didactor.practice.samples import hand_over
from didactor.web.processes import keep_running

logger = logging.getLogger(__name__)

#: A web thread waits so long for an answer; then the attempt is heard later.
CONNECT_S, ANSWER_S = 0.5, 6.0
#: How an attempt stands: it goes on, it is over and judged, or nobody listens.
GOING, OVER, AWAY = "going", "over", "away"
#: Attempts whose music is kept in memory, the latest ones, and of how many it is known when they are due to end.
MOST_KEPT, MOST_KNOWN = 32, 500
_KEPT: dict[uuid.UUID, Asked] = {}
#: Names of sockets are short on every system.
_LONGEST_NAME = 100


def socket_path() -> Path:
    """Where the listening processes of this machine are found."""
    path = Path(settings.STATE) / "live.sock"
    return (
        path
        if len(str(path)) < _LONGEST_NAME
        else Path(tempfile.gettempdir()) / f"didactor-{os.getuid()}-{uuid.uuid5(uuid.NAMESPACE_URL, str(path)).hex[:12]}.sock"
    )


class Answer(NamedTuple):
    """How an attempt stands, and from which second of its sound on it may be over while it still sounds."""

    state: str
    from_s: float = 0.0


class Turns:
    """Who waits for an ear: as many are heard as listen, the others in the order in which they came, each once."""

    def __init__(self, listening: int) -> None:
        self._pool = ThreadPoolExecutor(max(1, listening), thread_name_prefix="ear")
        self._lock = threading.Lock()
        self._waiting: dict[uuid.UUID, Future[Answer]] = {}
        self._listening = max(1, listening)

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
                found = self._waiting[attempt_id] = self._pool.submit(_answered, attempt_id)
                self._forget_old()
        if not free and not last:
            return Answer(GOING)
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
    """What this process knows of attempts whose pieces come in: when one may be over, and how loud it was. Nothing that must be kept."""

    def __init__(self, turns: Turns) -> None:
        self._turns = turns
        self._known: OrderedDict[uuid.UUID, tuple[float, float]] = OrderedDict()

    def ask(self, attempt_id: uuid.UUID, piece: bytes, *, rate_hz: int, heard_s: float, last: bool) -> str:
        """How an attempt stands. While it plays on, before its last note is due, nobody needs to listen in order to know."""
        from_s, loudest_db = self._known.get(attempt_id, (0.0, -math.inf))
        sounds, loudest_db = surely_sounds(np.frombuffer(piece, dtype="<i2"), rate_hz, loudest_db)
        answer = Answer(GOING)
        if last or not sounds or heard_s >= from_s:
            answer = self._turns.ask(attempt_id, last=last)
        self._known[attempt_id] = (answer.from_s or from_s, loudest_db)
        while len(self._known) > MOST_KNOWN:
            self._known.popitem(last=False)
        return answer.state


_PIECES = Pieces(Turns(settings.LISTENING_PROCESSES))


def ask(attempt_id: uuid.UUID, piece: bytes, *, rate_hz: int, heard_s: float, last: bool = False) -> str:
    """How an attempt stands whose next piece has come, by a process that listens: ``going``, ``over`` or ``away``.

    Args:
        piece: the samples that came, 16 bits.
        heard_s: seconds of its sound that are there, with these.
        last: nothing more will come.
    """
    if settings.LISTEN_HERE:
        return look_at(attempt_id)
    return _PIECES.ask(attempt_id, piece, rate_hz=rate_hz, heard_s=heard_s, last=last)


def _answered(attempt_id: uuid.UUID) -> Answer:
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
            line.settimeout(CONNECT_S)
            line.connect(str(socket_path()))
            line.settimeout(ANSWER_S)
            line.sendall(json.dumps({"attempt": str(attempt_id)}).encode() + b"\n")
            told = json.loads(line.makefile("rb").readline())
            return Answer(str(told["state"]), float(told.get("from_s", 0.0)))
    except (OSError, ValueError, KeyError):
        return Answer(AWAY)


def look_at(attempt_id: uuid.UUID) -> str:
    """Hear what has come of an attempt so far; keep its verdict when it is over."""
    # What surrounds it is asked for once.
    attempts = Attempt.objects.all() if attempt_id in _KEPT else Attempt.objects.with_task()
    attempt = attempts.filter(pk=attempt_id).first()
    if attempt is None:
        return AWAY
    if attempt.ended:
        return OVER
    samples = samples_of(attempt)
    try:
        heard = attend(samples, _asked(attempt), _last_look(attempt))
    except CoreError as error:
        settle(attempt, Verdict(outcome=Outcome.UNSURE, says=error.message, code=error.code), len(samples) / RATE_HZ)
        return OVER
    if heard.verdict is None:
        if heard.look is not None:
            kept = {"at_s": heard.look.at_s, "complete": heard.look.complete}
            attempt.samples_path.with_suffix(".look").write_text(json.dumps(kept))
        return GOING
    settle(attempt, heard.verdict, len(samples) / RATE_HZ)
    hand_over(attempt)
    keep_sound.defer(attempt_id=str(attempt.pk))
    return OVER


def may_end_from_s(attempt_id: uuid.UUID) -> float:
    """From which second on an attempt that was looked at may be over while it still sounds; at any where that is not known."""
    kept = _KEPT.get(attempt_id)
    return kept.due.end_s if kept is not None and kept.prompt is None else 0.0


def _asked(attempt: Attempt) -> Asked:
    """What an attempt is heard against: it does not change while it is played, and four pieces a second ask for it."""
    if attempt.pk not in _KEPT:
        found = asked(attempt)
        while len(_KEPT) >= MOST_KEPT:
            _KEPT.pop(next(iter(_KEPT)))
        _KEPT[attempt.pk] = found
    return _KEPT[attempt.pk]


def _last_look(attempt: Attempt) -> Look | None:
    try:
        return Look(**json.loads(attempt.samples_path.with_suffix(".look").read_text()))
    except (OSError, ValueError, TypeError):
        return None


def listen(processes: int, warm_up: Callable[[], None]) -> None:
    """Open the socket and answer in so many processes, until told to stop. One that dies is replaced.

    ``warm_up`` runs in each of them: what it loads has threads, which would not survive the parting.
    """
    path = socket_path()
    path.unlink(missing_ok=True)
    old = os.umask(0o177)
    try:
        door = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        door.bind(str(path))
    finally:
        os.umask(old)
    door.listen(32)

    def answer() -> None:
        warm_up()
        _answer(door)

    keep_running(processes, answer, at_end=lambda: path.unlink(missing_ok=True))


def _answer(door: socket.socket) -> None:
    while True:
        line, _ = door.accept()
        with line:
            line.settimeout(CONNECT_S)
            close_old_connections()
            state, from_s = AWAY, 0.0
            try:
                request = json.loads(line.makefile("rb").readline(200))
                attempt_id = uuid.UUID(str(request["attempt"]))
                state, from_s = look_at(attempt_id), may_end_from_s(attempt_id)
            except (OSError, ValueError, KeyError, TypeError):
                pass
            except Exception:
                # One attempt that cannot be heard must not end the ear of all others; the worker tries it again and tells.
                logger.exception("an attempt could not be heard")
            try:
                line.sendall(json.dumps({"state": state, "from_s": from_s}).encode() + b"\n")
            except OSError:
                continue
