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
import hashlib
import os
import shutil
import socket
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]
with socket.create_server(("127.0.0.1", 0)) as probe:
    STORE_PORT = probe.getsockname()[1]
os.environ |= {
    "DIDACTOR_STORE": "s3://recordings/school",
    "DIDACTOR_STORE_ADDRESS": f"http://127.0.0.1:{STORE_PORT}",
    "DIDACTOR_STORE_KEY": "testing",
    "DIDACTOR_STORE_SECRET": "testing",
    "DIDACTOR_HEARING_SLOTS": "1",
}

import time  # noqa: E402

from django.core.files.storage import default_storage  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from hosts import FOLDER, PYTHON, ROOT, SERVE, Browser, Host, answers, end_sessions, jobs, object_store, until  # noqa: E402
from report import close  # noqa: E402

from didactor.takes.models import Analysis, Take, TakeState  # noqa: E402
from didactor.web.store import stored  # noqa: E402
from tests import scene as scenes  # noqa: E402
from tests.music import wav  # noqa: E402

WEBS, WORKERS, SENDERS = 2, 3, 6


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=30)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    hosts: list[Host] = []
    try:
        with object_store(STORE_PORT):
            figures = _measured(options.count, hosts)
    finally:
        for host in hosts:
            if host.is_up:
                host.kill()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    shutil.rmtree(FOLDER, ignore_errors=True)
    return close("machines", "", figures, write=options.write)


def _measured(count: int, hosts: list[Host]) -> dict[str, Any]:
    scene = scenes.build(listen_first=False)
    tasks = [scenes.another(scene, f"Player {k}") for k in range(count)]
    sounds = [wav(seed=1000 + k) for k in range(min(count, 6))]
    # Recordings that are alike but for the last bytes: each is an object of its own.
    data = {task.pk: sounds[k % len(sounds)] + bytes([k % 256, k // 256]) for k, task in enumerate(tasks)}
    webs = [Host(f"web{k}", *SERVE, DIDACTOR_WEB="1") for k in range(WEBS)]
    hosts += webs
    workers = [Host(f"worker{k}", PYTHON, str(ROOT / "manage.py"), "work") for k in range(WORKERS)]
    hosts += workers
    until(lambda: all(answers(web.port) for web in webs), 60)
    browsers = {task.pk: Browser(webs, task.student) for task in tasks}
    began = time.monotonic()
    with ThreadPoolExecutor(SENDERS) as pool:
        sent = [pool.submit(browsers[task.pk].send, task, data[task.pk]) for task in tasks]
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
    status, answer, _ = browsers[tasks[0].pk].ask("GET", f"/takes/{kept[tasks[0].pk].pk}/sound/", Range="bytes=100-199")
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
