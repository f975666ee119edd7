"""Two web hosts and three worker hosts on one database and one object store, one of each killed in the middle: is anything lost or doubled?

    bench/machines             30 recordings in three pieces each, every second piece over the other web host
    bench/machines --count 8   fewer
    bench/machines --write     also refreshes its part of docs/benchmarks.md

Each host is processes with a folder of its own; what they share is the database, the object store (a stand-in) and the secret. When
a third of the recordings is in, one web host and one worker that is hearing are killed and do not come back. The last line is one JSON
object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import base64
import hashlib
import http.client
import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
ROOT = HERE.parent
sys.path[:0] = [str(ROOT), str(HERE)]
STATE = Path(os.environ.get("DIDACTOR_STATE", ROOT / "var"))
FOLDER = Path(tempfile.mkdtemp(prefix="didactor-bench-"))
WEBS, WORKERS, PIECES, SENDERS = 2, 3, 3, 6


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port: int = probe.getsockname()[1]
        return port


STORE_PORT = free_port()
os.environ |= {
    "DJANGO_SETTINGS_MODULE": "didactor.config.settings",
    "DIDACTOR_STATE": str(FOLDER),
    "DIDACTOR_SECRET": secrets.token_urlsafe(40),
    "DIDACTOR_STORE": "s3://recordings/school",
    "DIDACTOR_STORE_ADDRESS": f"http://127.0.0.1:{STORE_PORT}",
    "DIDACTOR_STORE_KEY": "testing",
    "DIDACTOR_STORE_SECRET": "testing",
    "DIDACTOR_HEARING_SLOTS": "1",
}
SHARED = ("static", "vendor", "postgres.port", "postgres.password")
for kept in SHARED:
    (FOLDER / kept).symlink_to(STATE / kept)

import boto3  # noqa: E402
import django  # noqa: E402

django.setup()

from django.conf import settings  # noqa: E402
from django.core.files.storage import default_storage  # noqa: E402
from django.db import connection  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from report import close  # noqa: E402

from didactor.assignments.models import Task  # noqa: E402
from didactor.takes.models import Analysis, Take, TakeState  # noqa: E402
from didactor.web.store import stored  # noqa: E402
from tests import scene as scenes  # noqa: E402
from tests.music import wav  # noqa: E402


class Host:
    """One machine: a folder of its own, and what runs there."""

    def __init__(self, name: str, *command: str) -> None:
        self.name, self.port = name, free_port()
        folder = FOLDER / name
        folder.mkdir()
        for shared in SHARED:
            (folder / shared).symlink_to(STATE / shared)
        own = {
            **os.environ,
            "DIDACTOR_STATE": str(folder),
            "DIDACTOR_DB_NAME": str(connection.settings_dict["NAME"]),
            "PYTHONPATH": str(ROOT),
        }
        own["OMP_NUM_THREADS"] = own["OPENBLAS_NUM_THREADS"] = "1"
        with (FOLDER / f"{name}.log").open("wb") as log:
            asked = [part.replace("PORT", str(self.port)) for part in command]
            self.process = subprocess.Popen(asked, env=own, cwd=folder, stdout=log, stderr=log, start_new_session=True)

    def kill(self) -> None:
        """As when the power goes: nothing is told to anybody."""
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()

    @property
    def is_up(self) -> bool:
        return self.process.poll() is None


class Sender:
    """A student's browser behind a proxy: a host that does not answer is left for another one, and the upload goes on where it stands."""

    def __init__(self, webs: list[Host], task: Task, data: bytes) -> None:
        client = Client()
        client.force_login(task.student, backend="didactor.people.backends.PasswordBackend")
        self.webs, self.task, self.data = webs, task, data
        self.cookies = f"sessionid={client.cookies['sessionid'].value}; csrftoken={'a' * 32}"
        self.turns = 0

    def ask(self, method: str, path: str, body: bytes = b"", **headers: str) -> tuple[int, dict[str, str]]:
        for _ in range(40):
            up = [web for web in self.webs if web.is_up]
            web = up[self.turns % len(up)]
            self.turns += 1
            own = {
                "Cookie": self.cookies,
                "X-CSRFToken": "a" * 32,
                "Tus-Resumable": "1.0.0",
                **{k.replace("_", "-"): v for k, v in headers.items()},
            }
            line = http.client.HTTPConnection("127.0.0.1", web.port, timeout=30)
            try:
                line.request(method, path, body, own)
                answer = line.getresponse()
                answer.read()
                return answer.status, dict(answer.headers)
            except (OSError, http.client.HTTPException):
                if method == "PATCH":
                    # Whether it arrived is not known: it is asked how far it came.
                    return 0, {}
                time.sleep(0.2)
            finally:
                line.close()
        raise SystemExit("no web host answers")

    def send(self) -> float:
        began = time.monotonic()
        name, task = base64.b64encode(b"take.wav").decode(), base64.b64encode(str(self.task.pk).encode()).decode()
        status, found = self.ask(
            "POST", "/takes/uploads/", Upload_Length=str(len(self.data)), Upload_Metadata=f"filename {name},task {task}"
        )
        assert status == 201, status
        place, step = found["Location"], len(self.data) // PIECES + 1
        offset = 0
        while offset < len(self.data):
            piece = self.data[offset : offset + step]
            status, found = self.ask(
                "PATCH",
                place,
                piece,
                Upload_Offset=str(offset),
                Content_Type="application/offset+octet-stream",
                Content_Length=str(len(piece)),
            )
            if status != 204:
                status, found = self.ask("HEAD", place)
            offset = int(found["Upload-Offset"])
        return time.monotonic() - began


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
        return list(cursor.fetchall())


def end_sessions() -> None:
    """A killed host's sessions may linger: the test database could not be removed."""
    jobs("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()")


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=30)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    store = subprocess.Popen(
        [sys.executable, "-m", "moto.server", "-H", "127.0.0.1", "-p", str(STORE_PORT)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    databases = setup_databases(verbosity=0, interactive=False)
    hosts: list[Host] = []
    try:
        until(lambda: _answers(STORE_PORT), 30)
        account = boto3.Session(aws_access_key_id="testing", aws_secret_access_key="testing", region_name="us-east-1")
        account.client("s3", endpoint_url=settings.STORAGES["default"]["OPTIONS"]["endpoint_url"]).create_bucket(Bucket="recordings")
        figures = _measured(options.count, hosts)
    finally:
        for host in hosts:
            if host.is_up:
                host.kill()
        store.kill()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    shutil.rmtree(FOLDER, ignore_errors=True)
    return close("machines", "", figures, write=options.write)


def _answers(port: int) -> bool:
    try:
        socket.create_connection(("127.0.0.1", port), 1).close()
    except OSError:
        return False
    return True


def _measured(count: int, hosts: list[Host]) -> dict[str, Any]:
    scene = scenes.build(listen_first=False)
    tasks = [scenes.another(scene, f"Player {k}") for k in range(count)]
    sounds = [wav(seed=1000 + k) for k in range(min(count, 6))]
    # Recordings that are alike but for the last bytes: each is an object of its own.
    data = {task.pk: sounds[k % len(sounds)] + bytes([k % 256, k // 256]) for k, task in enumerate(tasks)}
    python = str(Path(sys.executable))
    serve = [
        str(Path(sys.executable).with_name("waitress-serve")),
        "--listen=127.0.0.1:PORT",
        "--threads=8",
        "didactor.config.wsgi:application",
    ]
    webs = [Host(f"web{k}", *serve) for k in range(WEBS)]
    hosts += webs
    workers = [Host(f"worker{k}", python, str(ROOT / "manage.py"), "work") for k in range(WORKERS)]
    hosts += workers
    until(lambda: all(_answers(web.port) for web in webs), 60)
    senders = [Sender(webs, task, data[task.pk]) for task in tasks]
    began = time.monotonic()
    with ThreadPoolExecutor(SENDERS) as pool:
        sent = [pool.submit(sender.send) for sender in senders]
        until(lambda: Take.objects.count() >= count // 3, 120)
        webs[0].kill()
        # The worker that has had a job for longest is in the middle of it.
        until(lambda: Take.objects.filter(state=TakeState.ANALYSING).exists(), 60)
        workers[0].kill()
        slowest = max(future.result() for future in sent)
    until(lambda: not Take.objects.exclude(state=TakeState.ANALYSED).exists(), 600)
    heard_s = time.monotonic() - began
    kept = {take.task_id: take for take in Take.objects.all()}
    lost = [pk for pk, body in data.items() if pk not in kept or kept[pk].sha256 != hashlib.sha256(body).hexdigest()]
    wrong = [take for take in kept.values() if hashlib.sha256(default_storage.open(take.original.name).read()).hexdigest() != take.sha256]
    player = Sender(webs, tasks[0], b"")
    status, answer = player.ask("GET", f"/takes/{kept[tasks[0].pk].pk}/sound/", Range="bytes=100-199")
    until(lambda: not jobs("SELECT 1 FROM procrastinate_jobs WHERE status = 'doing' AND queue_name = 'takes'"), 60)
    scheduled = (
        "SELECT count(*), count(DISTINCT (task_name, args->>'timestamp')) FROM procrastinate_jobs WHERE args->>'timestamp' IS NOT NULL"
    )
    periodic = jobs(scheduled)[0]
    return {
        "recordings": count,
        "lost": len(lost) + len(wrong),
        "doubled": Take.objects.count() - len(kept) + Analysis.objects.count() - len(kept),
        "heard": sum(take.state == TakeState.ANALYSED for take in kept.values()),
        "failed_jobs": len(jobs("SELECT 1 FROM procrastinate_jobs WHERE status = 'failed'")),
        "left_on_their_way": sum(name.startswith("uploads/") for name, _ in stored()),
        "scheduled": periodic[0],
        "scheduled_twice": periodic[0] - periodic[1],
        "ranges_served": int(status == 206 and answer["Content-Length"] == "100"),
        "slowest_upload_s": round(slowest, 1),
        "all_heard_s": round(heard_s, 1),
    }


if __name__ == "__main__":
    sys.exit(main())
