"""One line each way between the processes of a machine that practising needs: a request and an answer, both JSON objects."""

from __future__ import annotations

import json
import logging
import os
import socket
import tempfile
import uuid
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from django.conf import settings

logger = logging.getLogger(__name__)

#: So long is waited for somebody to answer at all, and for what they found; then the attempt is heard later.
CONNECT_S, ANSWER_S = 0.5, 6.0
#: How an attempt stands: it goes on, it is over and judged, or nobody listens.
GOING, OVER, AWAY = "going", "over", "away"
#: Names of sockets are short on every system; and so are requests.
_LONGEST_NAME, _LONGEST_LINE = 100, 400


def socket_path(name: str) -> Path:
    """Where those are found who answer: ``live`` the one that keeps the turns, ``ears`` those that listen."""
    path = Path(settings.STATE) / f"{name}.sock"
    return (
        path
        if len(str(path)) < _LONGEST_NAME
        else Path(tempfile.gettempdir()) / f"didactor-{os.getuid()}-{uuid.uuid5(uuid.NAMESPACE_URL, str(path)).hex[:12]}.sock"
    )


def open_door(name: str) -> socket.socket:
    """A socket that only this user can ask at."""
    path = socket_path(name)
    path.unlink(missing_ok=True)
    old = os.umask(0o177)
    try:
        door = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        door.bind(str(path))
    finally:
        os.umask(old)
    door.listen(64)
    return door


def asked_on(name: str, request: Mapping[str, Any], answer_s: float) -> Mapping[str, Any]:
    """What is answered to a request; nothing where nobody answers, in time or in a way that makes sense."""
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
            line.settimeout(CONNECT_S)
            line.connect(str(socket_path(name)))
            line.settimeout(answer_s)
            line.sendall(json.dumps(request).encode() + b"\n")
            told = json.loads(line.makefile("rb").readline())
            return told if isinstance(told, dict) else {}
    except (OSError, ValueError):
        return {}


def answer_line(line: socket.socket, tell: Callable[[Mapping[str, Any]], Mapping[str, Any]], *, otherwise: Mapping[str, Any]) -> None:
    """Answer one request; ``otherwise`` to what makes no sense or goes wrong: one that cannot be answered must not end those of others."""
    line.settimeout(CONNECT_S)
    answer = otherwise
    try:
        answer = tell(json.loads(line.makefile("rb").readline(_LONGEST_LINE)))
    except (OSError, ValueError, KeyError, TypeError):
        pass
    except Exception:
        logger.exception("an attempt could not be heard")
    try:
        line.sendall(json.dumps(answer).encode() + b"\n")
    except OSError:
        return
