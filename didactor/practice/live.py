"""The ear while somebody practises: processes that stay warm and answer on a socket of this machine within a second.

A web process hands over an attempt's number and how loud its last piece was, and gets back how it stands; the sound itself lies in a file
that all can read. One process keeps the turns (``turns.py``), the others listen. Where nobody answers, the attempt is kept and heard by
the worker: then the count comes a little later.
"""

from __future__ import annotations

import json
import socket
import uuid
from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

import numpy as np
from django.conf import settings
from django.db import close_old_connections, transaction

from didactor.core.errors import CoreError
from didactor.core.practising.attempt import Asked, attend
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.ending import Look, loudness
from didactor.core.practising.verdict import Verdict
from didactor.core.sound.recording import RATE_HZ
from didactor.practice.hearing import asked, samples_of, settle
from didactor.practice.jobs import keep_sound
from didactor.practice.line import ANSWER_S, AWAY, GOING, OVER, answer_line, asked_on, open_door, socket_path
from didactor.practice.models import Attempt
from didactor.practice.samples import hand_over
from didactor.practice.turns import Pieces, Turns, keep_the_door, of_the_ears
from didactor.web.processes import keep_running, leave_what_is_loaded

#: Attempts whose music is kept in memory, the latest ones.
MOST_KEPT = 32
_KEPT: dict[uuid.UUID, Asked] = {}


class Standing(NamedTuple):
    """How an attempt stands: ``going``, ``over`` or ``away``; and whether it waits for its turn, so that there is no hurry to ask again."""

    state: str
    waits: bool = False


def ask(attempt_id: uuid.UUID, piece: bytes, *, rate_hz: int, heard_s: float, last: bool = False) -> Standing:
    """How an attempt stands whose next piece has come, by a process that listens.

    Args:
        piece: the samples that came, 16 bits.
        heard_s: seconds of its sound that are there, with these.
        last: nothing more will come.
    """
    if settings.LISTEN_HERE:
        return Standing(look_at(attempt_id))
    level_db = loudness(np.frombuffer(piece, dtype="<i2"), rate_hz)
    # A second more than those who keep the turns wait for an ear.
    told = asked_on("live", {"attempt": str(attempt_id), "level_db": level_db, "heard_s": heard_s, "last": last}, ANSWER_S + 1.0)
    state = told.get("state")
    return Standing(state, waits=told.get("waits") is True) if state in (GOING, OVER) else Standing(AWAY)


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
    with transaction.atomic():
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
    """Open the sockets and answer in so many processes, until told to stop; one more keeps the turns. One that dies is replaced.

    ``warm_up`` runs in each that listens: what it loads has threads, which would not survive the parting.
    """
    live, ears = open_door("live"), open_door("ears")

    def hear() -> None:
        warm_up()
        leave_what_is_loaded()
        _hear(ears)

    def keep_turns() -> None:
        keep_the_door(live, Pieces(Turns(processes, of_the_ears)))

    def forget() -> None:
        for name in ("live", "ears"):
            socket_path(name).unlink(missing_ok=True)

    keep_running([keep_turns, *[hear] * processes], at_end=forget)


def _hear(door: socket.socket) -> None:
    def told(request: Mapping[str, Any]) -> dict[str, Any]:
        attempt_id = uuid.UUID(str(request["attempt"]))
        return {"state": look_at(attempt_id), "from_s": may_end_from_s(attempt_id)}

    while True:
        line, _ = door.accept()
        with line:
            close_old_connections()
            answer_line(line, told, otherwise={"state": AWAY, "from_s": 0.0})
