"""A school's evening on one machine: students send takes while teachers mark and others cross stones live.

    bench/load                               300 students in 10 minutes, 10 teachers, 20 who practise; half an hour in all
    bench/load --students 20 --minutes 1     a smaller evening
    bench/load --listens 3                   teachers who listen to three seconds of a take
    bench/load --ear                         only what the ear hears with one slot and with two
    bench/load --write                       also refreshes its part of docs/benchmarks.md

The web processes, the worker and the listening processes as bin/start runs them. Everybody is a browser of their own: students open their
stand, sit down, send a minute of playing in pieces and watch its state for half a minute; teachers open what waits, listen to a quarter of
each take, keep marks, write and send; who practises plays attempts in real time. Told are what failed, how long pages took, how long after
the last note a verdict came, and how fast the queue empties. The last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import base64
import copy
import json
import os
import random
import re
import shutil
import sys
import tempfile
import threading
import time
import uuid
import wave
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from io import BytesIO
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
from django.db import connections  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from hosts import FOLDER, PYTHON, ROOT, SERVE, Browser, Host, answers, end_sessions, jobs, until  # noqa: E402
from report import close, taken_away_s  # noqa: E402

from didactor.assignments.models import Assignment, Task  # noqa: E402
from didactor.assignments.services import assign, give_to  # noqa: E402
from didactor.core.score.write.as_musicxml import Line, write_musicxml  # noqa: E402
from didactor.library.services import add_piece, cut_passage  # noqa: E402
from didactor.people.models import Person, Role  # noqa: E402
from didactor.people.services import add_student  # noqa: E402
from didactor.practice.music import music_of_stone  # noqa: E402
from didactor.practice.state import state_of  # noqa: E402
from didactor.takes.models import Analysis, Submission, Take, TakeState  # noqa: E402
from tests import scene as scenes  # noqa: E402
from tests.browser.student import playing  # noqa: E402
from tests.music import TUNE, wav  # noqa: E402

#: Twenty-four bars at 92: a minute.
MINUTE = " | ".join([TUNE.split(" | ", 1)[1]] * 3)
TEMPO, EAR_TAKES, TEACHERS, PRACTISING, WATCHES_S = 92.0, 24, 10, 20, 30.0
#: A teacher listens to so much of a take; all are there within so long: nobody comes in the same second.
LISTENS_S, TOGETHER_S = 15.0, 15.0


class Evening:
    """Who is there, and what each has to do."""

    def __init__(self, students: int) -> None:
        self.scene = scenes.build(listen_first=False)
        teacher, studio = self.scene.teacher, self.scene.teacher.studio
        score = write_musicxml([Line(text=MINUTE, fifths=2)], title="A minute")
        with tempfile.TemporaryFile() as upload:
            upload.write(score)
            upload.flush()
            piece = add_piece(teacher=teacher, upload=upload, filename="minute.musicxml")
        passage = cut_passage(teacher=teacher, revision=piece.current, part=1, bars="1-24")
        enrolled = [
            add_student(studio=studio, name=f"Player {k}", instrument="clarinet", level="advanced") for k in range(students + PRACTISING)
        ]
        fields = {name: getattr(self.scene.assignment, name) for name in ("due_at", "tempo", "stage", "band_percent", "students_see")}
        fields |= {"title": "A minute", "listen_first": False}
        minute = assign(teacher=teacher, passage=passage, enrolments=enrolled[:students], fields=fields)
        give_to(assignment=self.scene.assignment, enrolments=enrolled)
        self.sending = list(minute.tasks.select_related("enrolment__student"))
        short = {task.enrolment_id: task for task in self.scene.assignment.tasks.select_related("enrolment__student")}
        Assignment.objects.filter(pk=self.scene.assignment.pk).update(crossing={"good": 10, "of": 20, "counts": "notes", "bars": "1-8"})
        self.practising = [Task.objects.get(pk=short[e.pk].pk) for e in enrolled[students:]]
        self.teachers = [
            Person.objects.create_user(username=f"teacher{k}", password="x", name=f"Teacher {k}", role=Role.TEACHER, studio=studio)
            for k in range(TEACHERS)
        ]
        self._hand_in([short[e.pk] for e in enrolled[:students]])
        self.sounds = [wav(text=MINUTE, seed=500 + k) for k in range(6)]

    def _hand_in(self, tasks: list[Task]) -> None:
        """One take that was heard, handed in by many: what teachers have to mark."""
        first = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2})
        heard = Analysis.objects.get(take=first)
        for task in tasks:
            take = copy.copy(first)
            take.pk, take.task, take.sha256 = None, task, uuid.uuid4().hex * 2
            take.save(force_insert=True)
            analysis = copy.copy(heard)
            analysis.pk, analysis.take = None, take
            analysis.save(force_insert=True)
            Submission.objects.create(take=take)
        Task.objects.filter(pk__in=[task.pk for task in tasks]).update(state="handed_in")


class Visitor(Browser):
    """A browser that was never here: what a page needs besides is fetched once."""

    def __init__(self, hosts: list[Host], person: Person) -> None:
        super().__init__(hosts, person)
        self.kept: set[bytes] = set()

    def visit(self, path: str) -> bytes:
        _, _, page = self.ask("GET", path)
        for address in re.findall(rb'(?:src|href)="(/static/[^"]+)"', page):
            if address not in self.kept:
                self.kept.add(address)
                self.ask("GET", address.decode())
        return page


def student(browser: Visitor, task: Task, sound: bytes, at: float) -> None:
    """Opens the stand, plays, sends, watches for half a minute."""
    time.sleep(max(0.0, at - time.monotonic()))
    browser.visit("/stand/")
    browser.visit(f"/stand/{task.pk}/play/")
    browser.send(task, sound, pieces=max(1, len(sound) // 1_000_000))
    page = browser.visit(f"/stand/{task.pk}/")
    take = re.search(rb"/stand/takes/(\d+)/", page)
    assert take is not None
    until_s, pause_s = time.monotonic() + WATCHES_S, 0.7
    while time.monotonic() + pause_s < until_s:
        time.sleep(pause_s)
        _, _, told = browser.ask("GET", f"/stand/takes/{take[1].decode()}/status/")
        # The page asks again when it is told to.
        again = re.search(rb"load delay:(\d+)ms", told)
        if again is None:
            return
        pause_s = int(again[1]) / 1000


def teacher(browser: Visitor, over: threading.Event, number: int, listens_s: float) -> int:
    """Takes what waits of their own students, one after the other, as long as something does; of each so much is listened to."""
    rng, answered = random.Random(number), 0
    time.sleep(TOGETHER_S * rng.random())
    while not over.is_set():
        page = browser.visit("/desk/")
        waiting = [int(pk) for pk in dict.fromkeys(re.findall(rb'href="/desk/(\d+)/', page))]
        if not waiting:
            return answered
        own = [pk for pk in waiting if pk % TEACHERS == number]
        if not own:
            time.sleep(3)
        for pk in own:
            if over.is_set():
                break
            desk = browser.visit(f"/desk/{pk}/")
            browser.ask("GET", f"/desk/{pk}/alongside/")
            sound = re.search(rb"/takes/\d+/sound/", desk)
            assert sound is not None
            browser.ask("GET", sound[0].decode(), Range="bytes=0-")
            time.sleep(listens_s * (0.7 + 0.6 * rng.random()))
            for mark in re.findall(rb'action="(/desk/\d+/marks/\d+/)"', desk)[:2]:
                browser.post(mark.decode(), standing="kept")
            version = re.search(rb'name="version" value="(\d+)"', desk)
            fields = {"text": "Well held, the end a little early.", "decision": "once_more"}
            browser.post(f"/desk/{pk}/draft/", **fields, **({"version": version[1].decode()} if version else {}))
            time.sleep(1)
            status, _, _ = browser.post(f"/desk/{pk}/send/", **fields)
            answered += status == 302
            time.sleep(1 + rng.random())
    return answered


def practising(browser: Browser, task: Task, over: threading.Event, number: int, late: list[float], went: Counter[str]) -> None:
    """Plays attempts in real time, as a page does (``static/js/attempt.js``): what was played since the last answer is the next piece."""
    state = state_of(task)
    stone = state.stones[0]
    made = playing(music_of_stone(task, stone), "clarinet", TEMPO, seed=40 + number)
    connections.close_all()
    with wave.open(BytesIO(base64.b64decode(str(made["wav"])))) as sound:
        rate, samples = sound.getframerate(), sound.readframes(sound.getnframes())
    silence, ends = np.zeros(rate * 6, dtype="<i2").tobytes(), float(str(made["ends"]))
    time.sleep(TOGETHER_S * random.Random(number).random())
    while not over.is_set():
        attempt, body = str(uuid.uuid4()), samples + silence
        sent = {"id": attempt, "stone": stone.name, "tempo": str(TEMPO), "rate": str(rate), "start": f"{made['begins']:.3f}"}
        _, _, begun = browser.post(f"/practice/{task.pk}/begin/", **sent)
        began = time.monotonic()
        at, told = 0, {"state": "going"}
        while at < len(body) and told["state"] == "going":
            heard_s = at / 2 / rate
            piece_s = min(2.0, max(1.0, float(str(made["begins"])) - heard_s))
            piece_s = min(piece_s, max(0.6 if told.get("waits") else 0.25, ends - 0.5 - heard_s))
            time.sleep(max(0.0, began + at / 2 / rate + piece_s - time.monotonic()))
            to = min(len(body), int((time.monotonic() - began) * rate) * 2)
            status, _, answer = browser.ask(
                "POST",
                f"/practice/attempts/{attempt}/?at={at}",
                body[at:to],
                Content_Type="application/octet-stream",
                X_Pass=json.loads(begun).get("pass", ""),
            )
            told, at = json.loads(answer) if status == 200 else {"state": f"status {status}"}, to
        went[told["state"]] += 1
        if told["state"] == "over":
            late.append(time.monotonic() - began - ends)
        time.sleep(2)


def one_machine(folder: Path, slots: int) -> dict[str, Host]:
    """What bin/start runs."""
    manage = [PYTHON, str(ROOT / "manage.py")]
    return {
        "web": Host("web", *SERVE, folder=folder),
        "listen": Host("listen", *manage, "listen", folder=folder),
        "work": Host("work", "nice", "-n", "19", *manage, "work", folder=folder, DIDACTOR_HEARING_SLOTS=str(slots)),
    }


def the_ear(evening: Evening, hosts: list[Host]) -> dict[str, Any]:
    """How fast the worker hears takes of a minute with one slot, and with two."""
    manage = [PYTHON, str(ROOT / "manage.py"), "work"]
    took: dict[int, float] = {}
    for slots in (1, 2):
        takes = [scenes.recorded_by(task, evening.sounds[k % 6] + bytes([slots, k])) for k, task in enumerate(evening.sending[:EAR_TAKES])]
        worker = Host(f"ear{slots}", *manage, folder=FOLDER, DIDACTOR_HEARING_SLOTS=str(slots))
        hosts.append(worker)
        ours = Take.objects.filter(pk__in=[take.pk for take in takes])
        # What comes first loads the models, once a slot.
        until(lambda: ours.exclude(state__in=("stored", "analysing")).count() >= 2 * slots, 300)  # noqa: B023
        began, before = time.monotonic(), ours.exclude(state__in=("stored", "analysing")).count()
        until(lambda: not ours.filter(state__in=("stored", "analysing")).exists(), 900)  # noqa: B023
        took[slots] = (time.monotonic() - began) / (len(takes) - before)
        worker.kill()
        ours.delete()
    return {
        "a_take_with_one_slot_s": round(took[1], 2),
        "a_take_with_two_slots_s": round(took[2], 2),
        "one_to_two": round(took[1] / took[2], 2),
    }


def the_evening(evening: Evening, hosts: list[Host], minutes: float, listens_s: float) -> tuple[list[str], dict[str, Any]]:
    machine = one_machine(FOLDER, os.cpu_count() or 1)
    hosts += machine.values()
    until(lambda: answers(machine["web"].port) and (FOLDER / "live.sock").exists(), 90)
    time.sleep(12)
    web, over = [machine["web"]], threading.Event()
    late: list[float] = []
    went: Counter[str] = Counter()
    browsers = {
        person.pk: Visitor(web, person) for person in (*evening.teachers, *(t.student for t in (*evening.sending, *evening.practising)))
    }
    warm = Visitor(web, evening.teachers[0])
    for path in ("/desk/", "/stand/"):
        warm.ask("GET", path)
    Browser.waited.clear()
    began, before = time.monotonic(), {name: host.worked_s for name, host in machine.items()}
    own, taken = time.process_time(), taken_away_s()
    with ThreadPoolExecutor(len(evening.sending) + TEACHERS + PRACTISING) as pool:
        marking = [pool.submit(teacher, browsers[person.pk], over, k, listens_s) for k, person in enumerate(evening.teachers)]
        playing_ = [
            pool.submit(practising, browsers[task.student.pk], task, over, k, late, went) for k, task in enumerate(evening.practising)
        ]
        each = 60.0 * minutes / len(evening.sending)
        sending = [
            pool.submit(student, browsers[task.student.pk], task, evening.sounds[k % 6] + bytes([k % 256, k // 256]), began + k * each)
            for k, task in enumerate(evening.sending)
        ]
        try:
            for future in sending:
                future.result()
        finally:
            # Whoever fails must not keep the others playing for ever.
            over.set()
        answered = sum(future.result() for future in marking)
        for future in playing_:
            future.result()
    lasted = time.monotonic() - began
    used = {name: (host.worked_s - before[name]) / lasted for name, host in machine.items()}
    used["bench"] = (time.process_time() - own) / lasted
    used["taken away by others"] = (taken_away_s() - taken) / lasted
    print("processors used: " + ", ".join(f"{name} {share:.2f}" for name, share in used.items()))
    new = Take.objects.filter(task__in=evening.sending)
    left = new.filter(state__in=("stored", "analysing")).count()
    others_left = jobs("SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo' AND queue_name = 'default'")[0][0]
    emptied_s = until(lambda: not new.filter(state__in=("stored", "analysing")).exists(), 3600)
    waited = list(Browser.waited)
    no_page = ("/uploads/", "/attempts/", "/static/", "/sound/")
    pages = [seconds for what, status, seconds in waited if status and not any(part in what for part in no_page)]
    failed = Counter(f"{re.sub('[0-9a-f-]{36}|[0-9]+', 'N', what)} {status}" for what, status, _ in waited if status == 0 or status >= 400)
    for what, count in failed.most_common(5):
        print(f"{count} x {what}", file=sys.stderr)
    kinds: dict[str, list[float]] = {}
    for what, _, seconds in waited:
        kind = re.sub("[0-9a-f-]{36}|[0-9]+", "N", re.sub("/static/.*", "/static/", what))
        kinds.setdefault(kind, []).append(1000 * seconds)
    rows = ["| what | how often | median, ms | 95 of 100, ms |", "|---|---|---|---|"]
    rows += [
        f"| {what} | {len(found)} | {np.median(found):.0f} | {np.percentile(found, 95):.0f} |"
        for what, found in sorted(kinds.items(), key=lambda kind: -len(kind[1]))
    ]
    return rows, {
        "students": len(evening.sending),
        "minutes": minutes,
        "requests": len(waited),
        "errors": sum(failed.values()),
        "heard": new.filter(state=TakeState.ANALYSED).count(),
        "answered": answered,
        "attempts": sum(went.values()),
        "attempts_not_told_live": sum(count for state, count in went.items() if state != "over"),
        "page_p95_ms": round(float(np.percentile(pages, 95)) * 1000),
        "verdict_median_s": round(float(np.median(late)), 2) if late else None,
        "verdict_p95_s": round(float(np.percentile(late, 95)), 2) if late else None,
        "left_at_the_end": left,
        "other_jobs_left": others_left,
        "emptied_a_take_s": round(emptied_s / left, 2) if left else 0.0,
    }


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--students", type=int, default=300)
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--listens", type=float, default=LISTENS_S)
    parser.add_argument("--ear", action="store_true")
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    hosts: list[Host] = []
    rows: list[str] = []
    try:
        evening = Evening(max(options.students, EAR_TAKES))
        figures = the_ear(evening, hosts)
        if not options.ear:
            rows, found = the_evening(evening, hosts, options.minutes, options.listens)
            figures |= found
    finally:
        for host in hosts:
            if host.is_up:
                host.kill()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    shutil.rmtree(FOLDER, ignore_errors=True)
    return close(
        "load",
        "\n".join(rows),
        figures,
        write=options.write and (options.students, options.listens) == (300, LISTENS_S) and not options.ear,
    )


if __name__ == "__main__":
    sys.exit(main())
