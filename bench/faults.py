"""Faults through real processes: a full disk, power that goes in mid upload, a database that goes away, a worker killed while it hears.

    bench/faults            as root: the disks that run full are small ones of memory, mounted for it
    bench/faults --write    also refreshes its part of docs/benchmarks.md

One web host and its workers, as bin/start runs them; one student sends a recording of a minute for each fault, in pieces as the page does,
asks where it stands when something went wrong, and goes on from there. Told are what the student was answered meanwhile, whether the
recording arrived byte by byte, once, and whether it was heard, once. The last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import base64
import hashlib
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

from django.db import connection, connections  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from hosts import FOLDER, PYTHON, ROOT, SERVE, Browser, Host, answers, end_sessions, jobs, until  # noqa: E402
from report import close  # noqa: E402

from didactor.assignments.models import Task  # noqa: E402
from didactor.takes.models import Analysis, Take, TakeState  # noqa: E402
from tests import scene as scenes  # noqa: E402
from tests.music import TUNE, wav  # noqa: E402

MINUTE = " | ".join([TUNE.split(" | ", 1)[1]] * 3)
PIECE, AWAY_S, PATIENCE_S = 500_000, 5.0, 90.0
#: The power goes so long after a piece was begun.
CUT_AFTER_S = (0.02, 0.01, 0.005, 0.002)


class Machine:
    """Web and worker with a folder of their own; what goes down is brought up again."""

    def __init__(self) -> None:
        self.hosts: list[Host] = []
        self.webs: list[Host] = []
        self.serve()
        self.work()

    def serve(self) -> None:
        web = Host(f"web{len(self.hosts)}", *SERVE, folder=FOLDER)
        self.hosts.append(web)
        self.webs.append(web)
        until(lambda: answers(web.port), 60)

    def work(self) -> None:
        self.worker = Host(f"work{len(self.hosts)}", PYTHON, str(ROOT / "manage.py"), "work", folder=FOLDER)
        self.hosts.append(self.worker)

    def look_after(self) -> None:
        """A worker that ended is begun again, as bin/start and systemd do."""
        if not self.worker.is_up:
            self.work()

    def end(self) -> None:
        for host in self.hosts:
            if host.is_up:
                host.kill()


class Sending:
    """A recording on its way, as the page sends it."""

    def __init__(self, machine: Machine, task: Task, data: bytes) -> None:
        self.browser, self.task, self.data, self.at = Browser(machine.webs, task.student), task, data, 0
        self.told: list[int] = []
        name, number = base64.b64encode(b"take.wav").decode(), base64.b64encode(str(task.pk).encode()).decode()
        announced = {"Upload_Length": str(len(data)), "Upload_Metadata": f"filename {name},task {number}", "Tus_Resumable": "1.0.0"}
        self.place = self.browser.ask("POST", "/takes/uploads/", **announced)[1]["Location"]

    def piece(self) -> int:
        """The next one; returns the status, 0 for none."""
        body = self.data[self.at : self.at + PIECE]
        own = {"Content_Type": "application/offset+octet-stream", "Content_Length": str(len(body))}
        status, found, _ = self.browser.ask("PATCH", self.place, body, Upload_Offset=str(self.at), Tus_Resumable="1.0.0", **own)
        if status == 204:
            self.at = int(found["Upload-Offset"])
        else:
            self.told.append(status)
        return status

    def go_on(self, until_byte: int | None = None) -> None:
        """To the end, or until so much has arrived, or until something goes wrong."""
        while self.at < (until_byte or len(self.data)) and self.piece() == 204:
            pass

    def ask_and_go_on(self) -> None:
        """Until all has arrived: where it went wrong, where it stands is asked first."""
        until_s = time.monotonic() + PATIENCE_S
        while self.at < len(self.data):
            if time.monotonic() > until_s:
                raise SystemExit(f"the recording did not arrive; the answers were {self.told}")
            status, found, _ = self.browser.ask("HEAD", self.place, Tus_Resumable="1.0.0")
            if status != 200:
                self.told.append(status)
                time.sleep(0.5)
                continue
            self.at = int(found["Upload-Offset"])
            if self.at == len(self.data) or self.piece() != 204:
                time.sleep(0.5)


def full_disk(machine: Machine, sending: Sending, folder: str) -> None:
    """``uploads``: while it comes in; ``media``: when it is put away."""
    place = FOLDER / folder
    kept = FOLDER / f"{folder}-before"
    shutil.copytree(place, kept)
    used = sum(path.stat().st_size for path in kept.rglob("*") if path.is_file())
    _mount(place, used + 2 * PIECE)
    try:
        shutil.copytree(kept, place, dirs_exist_ok=True)
        sending.go_on()
        if sending.told != [507]:
            raise SystemExit(f"the full disk was answered by {sending.told}")
        _mount(place, used + 100_000_000, "remount,")
        sending.ask_and_go_on()
        until(lambda: _heard(sending), PATIENCE_S)
        shutil.copytree(place, kept, dirs_exist_ok=True)
    finally:
        subprocess.run(["umount", "-l", str(place)], check=True)
        shutil.copytree(kept, place, dirs_exist_ok=True)
        shutil.rmtree(kept)


def _mount(place: Path, size: int, how: str = "") -> None:
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"{how}size={size}", "tmpfs", str(place)], check=True)


def power(machine: Machine, sending: Sending) -> None:
    """All processes of the machine go while a piece is on its way: sooner, where the machine was quicker than that."""
    for after_s in CUT_AFTER_S:
        cut = threading.Timer(after_s, machine.end)
        cut.start()
        answered = sending.piece()
        cut.join()
        machine.serve()
        machine.work()
        if answered == 0:
            break
    else:
        raise SystemExit("every piece was answered before the power went")
    sending.ask_and_go_on()


def database(machine: Machine, sending: Sending) -> None:
    """It ends all sessions and lets nobody in for some seconds, as when it is restarted."""
    name = str(connection.settings_dict["NAME"])
    sending.go_on(2 * PIECE)
    connections.close_all()
    with connection._nodb_cursor() as cursor:  # type: ignore[attr-defined]
        cursor.execute(f'ALTER DATABASE "{name}" ALLOW_CONNECTIONS false')
        cursor.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s", [name])
        sending.piece()
        time.sleep(AWAY_S)
        cursor.execute(f'ALTER DATABASE "{name}" ALLOW_CONNECTIONS true')
    sending.ask_and_go_on()


def worker(machine: Machine, sending: Sending) -> None:
    """It is killed while it hears; another one begins."""
    sending.ask_and_go_on()
    until(lambda: Take.objects.filter(task=sending.task, state=TakeState.ANALYSING).exists(), PATIENCE_S)
    machine.worker.kill()
    machine.work()


def _heard(sending: Sending) -> bool:
    return Take.objects.filter(task=sending.task, state=TakeState.ANALYSED).exists()


FAULTS: dict[str, Callable[[Machine, Sending], None]] = {
    "the disk for what comes in is full": lambda machine, sending: full_disk(machine, sending, "uploads"),
    "the disk of the recordings is full": lambda machine, sending: full_disk(machine, sending, "media"),
    "power goes in mid upload": power,
    "the database goes away for five seconds": database,
    "the worker is killed while it hears": worker,
}


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    rows = ["| fault | what the student was answered | seconds until it was heard | recordings | heard |", "|---|---|---|---|---|"]
    figures: dict[str, Any] = {"faults": len(FAULTS), "lost": 0, "not_the_same_bytes": 0, "doubled": 0}
    (FOLDER / "uploads").mkdir(exist_ok=True)
    machine = None
    try:
        scene = scenes.build(listen_first=False)
        machine = Machine()
        for number, (name, goes_wrong) in enumerate(FAULTS.items()):
            data = wav(text=MINUTE, seed=900 + number)
            print(name, file=sys.stderr)
            began = time.monotonic()
            sending = Sending(machine, scene.task, data)
            goes_wrong(machine, sending)
            until(lambda: machine.look_after() or _heard(sending), PATIENCE_S)  # noqa: B023
            lasted = time.monotonic() - began
            takes, heard = list(Take.objects.filter(task=scene.task)), Analysis.objects.filter(take__task=scene.task).count()
            told = ", ".join(str(status or "nothing") for status in dict.fromkeys(sending.told)) or "all went through"
            rows.append(f"| {name} | {told} | {lasted:.0f} | {len(takes)} | {heard} |")
            figures["lost"] += not takes
            figures["not_the_same_bytes"] += any(take.sha256 != hashlib.sha256(data).hexdigest() for take in takes)
            figures["doubled"] += max(0, len(takes) - 1) + max(0, heard - 1)
            Take.objects.filter(task=scene.task).delete()
        figures["jobs_left"] = jobs("SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'doing', 'failed')")[0][0]
    finally:
        if machine is not None:
            machine.end()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    shutil.rmtree(FOLDER, ignore_errors=True)
    return close("faults", "\n".join(rows), figures, write=options.write)


if __name__ == "__main__":
    sys.exit(main())
