"""What benches with a browser share: a database and a folder of their own, a web server that can be killed, a studio to record in.

Import it before anything of Django.
"""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
ROOT = HERE.parent
sys.path[:0] = [str(ROOT), str(HERE)]
STATE = Path(os.environ.get("DIDACTOR_STATE", ROOT / "var"))
#: Recordings and uploads of this run lie in a folder of their own; what is installed is that of the machine.
OWN = Path(tempfile.mkdtemp(prefix="didactor-bench-"))
for kept in ("vendor", "static", "secret_key", "postgres.port", "postgres.password"):
    (OWN / kept).symlink_to(STATE / kept)
os.environ |= {"DJANGO_SETTINGS_MODULE": "didactor.config.settings", "DIDACTOR_STATE": str(OWN), "DJANGO_ALLOW_ASYNC_UNSAFE": "true"}

import django  # noqa: E402

django.setup()

from django.db import connection  # noqa: E402

from tests import scene as scenes  # noqa: E402
from tests.browser.base import ARGUMENTS as USUAL  # noqa: E402
from tests.browser.base import EXECUTABLE  # noqa: E402

__all__ = ["ARGUMENTS", "EXECUTABLE", "OWN", "Server", "end_sessions", "scene_of", "scenes"]


#: As in the browser tests, and open to be connected to from outside.
ARGUMENTS = ["--headless=new", *USUAL, "--remote-debugging-port=0"]


class Server:
    """The web server as a process that can be killed."""

    def __init__(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as probe:
            self.port = probe.getsockname()[1]
        self.start()

    def start(self) -> None:
        command = [sys.executable, str(ROOT / "manage.py"), "serve", f"--listen=127.0.0.1:{self.port}"]
        environment = {**os.environ, "PYTHONPATH": str(ROOT), "DIDACTOR_DB_NAME": str(connection.settings_dict["NAME"])}
        self.process = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        for _ in range(200):
            try:
                socket.create_connection(("127.0.0.1", self.port), 1).close()
            except OSError:
                time.sleep(0.1)
            else:
                return
        raise SystemExit("the server did not start")

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()


def scene_of(number: int) -> scenes.Scene:
    """A studio for each recording: nothing of one can be taken for another's."""
    from unittest import mock

    build = scenes.teacher
    with mock.patch.object(scenes, "teacher", lambda studio, username: build(f"{studio} {number}", f"{username}{number}")):
        return scenes.build()


def end_sessions() -> None:
    """A killed server's sessions may linger: the test database could not be removed."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
        )
