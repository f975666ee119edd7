"""What benches of several processes share: hosts that can be killed, and browsers that go on over another host where one is gone.

Import it before anything of Django, after what is special about the environment was set.
"""

from __future__ import annotations

import base64
import contextlib
import http.client
import os
import secrets
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

HERE = Path(__file__).resolve().parent
ROOT = HERE.parent
sys.path[:0] = [str(ROOT), str(HERE)]
STATE = Path(os.environ.get("DIDACTOR_STATE", ROOT / "var"))
FOLDER = Path(tempfile.mkdtemp(prefix="didactor-bench-"))
#: What is installed is that of the machine.
INSTALLED = ("static", "vendor", "postgres.port", "postgres.password")
PYTHON = str(Path(sys.executable))
SERVE = [PYTHON, str(ROOT / "manage.py"), "serve", "--listen=127.0.0.1:PORT"]
PIECES = 3


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port: int = probe.getsockname()[1]
        return port


def own_folder(name: str = "") -> Path:
    """A state folder of this run."""
    folder = FOLDER / name if name else FOLDER
    folder.mkdir(exist_ok=True)
    for kept in INSTALLED:
        if not (folder / kept).exists():
            (folder / kept).symlink_to(STATE / kept)
    return folder


os.environ |= {
    "DJANGO_SETTINGS_MODULE": "didactor.config.settings",
    "DIDACTOR_STATE": str(own_folder()),
    "DIDACTOR_SECRET": secrets.token_urlsafe(40),
}

import boto3  # noqa: E402
import django  # noqa: E402

django.setup()

from django.db import connection  # noqa: E402
from django.test import Client  # noqa: E402

from didactor.assignments.models import Task  # noqa: E402
from didactor.people.models import Person  # noqa: E402


class Host:
    """One machine: a folder of its own, unless it is given one, and what runs there."""

    def __init__(self, name: str, *command: str, folder: Path | None = None, **more: str) -> None:
        self.name, self.port = name, free_port()
        folder = folder or own_folder(name)
        own = {
            **os.environ,
            "DIDACTOR_STATE": str(folder),
            "DIDACTOR_DB_NAME": str(connection.settings_dict["NAME"]),
            "PYTHONPATH": str(ROOT),
            "OMP_NUM_THREADS": "1",
            "OPENBLAS_NUM_THREADS": "1",
            **more,
        }
        with (FOLDER / f"{name}.log").open("wb") as log:
            # A group of their own, to be killed as one; not a session: what is nice is so only within one.
            asked = [part.replace("PORT", str(self.port)) for part in command]
            self.process = subprocess.Popen(asked, env=own, cwd=folder, stdout=log, stderr=log, process_group=0)

    def kill(self) -> None:
        """As when the power goes: nothing is told to anybody."""
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()

    @property
    def is_up(self) -> bool:
        return self.process.poll() is None

    @property
    def worked_s(self) -> float:
        """Seconds of a processor that its processes have used, those that have ended included."""
        ticks = 0
        for entry in Path("/proc").glob("[0-9]*/stat"):
            with contextlib.suppress(OSError):
                # What follows the name, which may hold anything.
                fields = entry.read_text().rpartition(")")[2].split()
                if int(fields[2]) == self.process.pid:
                    ticks += sum(int(one) for one in fields[11:15])
        return ticks / os.sysconf("SC_CLK_TCK")


class Browser:
    """Somebody's browser behind a proxy: a host that does not answer is left for another one. ``waited`` keeps what was asked for, how it
    ended (0: nothing came), and seconds.
    """

    _keeping = threading.Lock()
    waited: list[tuple[str, int, float]] = []

    def __init__(self, hosts: list[Host], person: Person) -> None:
        client = Client()
        client.force_login(person, backend="didactor.people.backends.PasswordBackend")
        self.hosts = hosts
        self.cookies = f"sessionid={client.cookies['sessionid'].value}; csrftoken={'a' * 32}"
        self.turns = 0

    def ask(self, method: str, path: str, body: bytes = b"", **headers: str) -> tuple[int, dict[str, str], bytes]:
        for _ in range(40):
            up = [host for host in self.hosts if host.is_up]
            host = up[self.turns % len(up)]
            self.turns += 1
            own = {"Cookie": self.cookies, "X-CSRFToken": "a" * 32, **{k.replace("_", "-"): v for k, v in headers.items()}}
            line = http.client.HTTPConnection("127.0.0.1", host.port, timeout=30)
            began, status = time.monotonic(), 0
            try:
                line.request(method, path, body, own)
                answer = line.getresponse()
                content = answer.read()
                status = answer.status
                return status, dict(answer.headers), content
            except (OSError, http.client.HTTPException):
                if method != "GET":
                    # Whether it arrived is not known.
                    return 0, {}, b""
                time.sleep(0.2)
            finally:
                line.close()
                with self._keeping:
                    self.waited.append((f"{method} {path.split('?')[0]}", status, time.monotonic() - began))
        raise SystemExit("no web host answers")

    def post(self, path: str, **fields: str) -> tuple[int, dict[str, str], bytes]:
        return self.ask("POST", path, urlencode(fields).encode(), Content_Type="application/x-www-form-urlencoded")

    def send(self, task: Task, data: bytes, pieces: int = PIECES) -> float:
        """A recording in pieces; where one is lost it is asked how far it came. Returns seconds."""
        began = time.monotonic()
        name, number = base64.b64encode(b"take.wav").decode(), base64.b64encode(str(task.pk).encode()).decode()
        announced = {"Upload_Length": str(len(data)), "Upload_Metadata": f"filename {name},task {number}", "Tus_Resumable": "1.0.0"}
        found: dict[str, str] = {}
        while "Location" not in found:
            _, found, _ = self.ask("POST", "/takes/uploads/", **announced)
        place, step, offset = found["Location"], len(data) // pieces + 1, 0
        while offset < len(data):
            piece = data[offset : offset + step]
            length = {"Content_Type": "application/offset+octet-stream", "Content_Length": str(len(piece))}
            status, found, _ = self.ask("PATCH", place, piece, Upload_Offset=str(offset), Tus_Resumable="1.0.0", **length)
            while status != 204 or "Upload-Offset" not in found:
                status, found, _ = self.ask("HEAD", place, Tus_Resumable="1.0.0")
                status = 204 if status == 200 else status
            offset = int(found["Upload-Offset"])
        return time.monotonic() - began


@contextlib.contextmanager
def object_store(port: int) -> Iterator[None]:
    """The stand-in for an object store, with a bucket ``recordings``."""
    store = subprocess.Popen(
        [PYTHON, "-m", "moto.server", "-H", "127.0.0.1", "-p", str(port)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        until(lambda: answers(port), 30)
        account = boto3.Session(aws_access_key_id="testing", aws_secret_access_key="testing", region_name="us-east-1")
        account.client("s3", endpoint_url=f"http://127.0.0.1:{port}").create_bucket(Bucket="recordings")
        yield
    finally:
        store.kill()


def answers(port: int) -> bool:
    try:
        socket.create_connection(("127.0.0.1", port), 1).close()
    except OSError:
        return False
    return True


def until(what: Callable[[], Any], seconds: float) -> float:
    """How long it took; ends the run where it does not come."""
    began = time.monotonic()
    while not what():
        if time.monotonic() - began > seconds:
            raise SystemExit(f"not within {seconds:g} s; see {FOLDER}")
        time.sleep(0.25)
    return time.monotonic() - began


def jobs(sql: str) -> list[tuple[Any, ...]]:
    with connection.cursor() as cursor:
        cursor.execute(sql)
        return list(cursor.fetchall()) if cursor.description else []


def end_sessions() -> None:
    """A killed host's sessions may linger: the test database could not be removed."""
    jobs("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()")
