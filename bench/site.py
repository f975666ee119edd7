"""Server time of the pages, with a year of a school's data, measured inside Django without a network.

    bench/site            needs the project's database (bin/start or bin/test made it); uses a test database of its own
    bench/site --write    also refreshes its part of docs/benchmarks.md

A school of 3 teachers and 240 students in 12 groups, 40 weeks with three assignments to each group, one heard and submitted take for each
task: 28,800 takes, and one assignment to 60 students for a class sheet. The takes' results are copies of one that was really heard. Prints
its table; the last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import os
import statistics
import sys
import tempfile
import time
from datetime import timedelta
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]
os.environ["DJANGO_SETTINGS_MODULE"] = "didactor.config.settings"
os.environ["DIDACTOR_TESTING"] = "1"

import django  # noqa: E402

django.setup()

from copies import Copies  # noqa: E402
from django.db import connection  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import CaptureQueriesContext, setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from django.utils import timezone  # noqa: E402
from explained import read_whole  # noqa: E402
from report import close  # noqa: E402

from didactor.web.loading import load_pages  # noqa: E402
from didactor.web.processes import leave_what_is_loaded  # noqa: E402

RUNS = 20
#: The school.
STUDENTS, GROUPS, WEEKS, A_WEEK, CLASS_SIZE = 240, 12, 40, 3, 60
#: Weeks whose takes still wait to be heard.
WAITING_WEEKS = 1
#: Pages that may ask the database at most twelve times.
LISTS = ("desk", "review", "assignments", "assignment", "students", "library", "class_sheet", "record", "over_weeks", "group")
CLASS = (
    "flute",
    "oboe",
    "clarinet",
    "alto-saxophone",
    "tenor-saxophone",
    "bassoon",
    "horn",
    "trumpet",
    "trombone",
    "euphonium",
    "tuba",
    "glockenspiel",
)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    try:
        rows, figures = _measure()
    finally:
        teardown_databases(databases, verbosity=0)
    table = "\n".join(["| page | median, ms | 95 of 100, ms | queries | size, kB |", "|---|---|---|---|---|", *rows])
    return close("site", table, figures, write=options.write)


def _measure() -> tuple[list[str], dict[str, float]]:
    from tests import scene as scenes

    class Folders(scenes.OwnFolders):
        pass

    class Base:
        @classmethod
        def setUpClass(cls) -> None: ...

        @classmethod
        def tearDownClass(cls) -> None: ...

    class Scene(Folders, Base):
        pass

    Scene.setUpClass()
    try:
        begun = time.perf_counter()
        scene, take, big = _school(scenes)
        loaded_s = time.perf_counter() - begun
        teacher, student = Client(), Client()
        backend = "didactor.people.backends.PasswordBackend"
        teacher.force_login(scene.teacher, backend=backend)
        student.force_login(scene.ylva.student, backend=backend)
        pages = {
            "desk": (teacher, "/desk/"),
            "assignments": (teacher, "/assignments/"),
            "students": (teacher, "/students/"),
            "library": (teacher, "/library/"),
            "score": (teacher, f"/library/{scene.passage.revision.piece_id}/"),
            "assignment": (teacher, f"/assignments/{scene.assignment.pk + 40}/"),
            "review": (teacher, f"/desk/{take.submission.pk}/"),
            "alongside": (teacher, f"/desk/{take.submission.pk}/alongside/"),
            "class_sheet": (teacher, f"/assignments/{big.pk}/class/"),
            "record": (teacher, f"/students/{scene.ylva.student_id}/passages/"),
            "over_weeks": (teacher, f"/record/students/{scene.ylva.student_id}/weeks/"),
            "group": (teacher, f"/groups/{scene.ylva.group_id}/"),
            "stand": (student, "/stand/"),
            "task": (student, f"/stand/{scene.task.pk}/"),
            "take": (student, f"/stand/takes/{take.pk}/"),
        }
        # As where pages are served; what the generator leaves behind is nothing a server would carry.
        load_pages()
        leave_what_is_loaded()
        rows, figures, asked, whole = [], {}, [], set()
        for name, (client, url) in pages.items():
            response = client.get(url)
            assert response.status_code == 200, (name, response.status_code)
            times = []
            for _ in range(RUNS):
                begun = time.perf_counter()
                client.get(url)
                times.append(1000 * (time.perf_counter() - begun))
            p95 = sorted(times)[round(0.95 * (RUNS - 1))]
            with CaptureQueriesContext(connection) as captured:
                client.get(url)
            queries = len(captured)
            whole |= {(table, name) for query in captured for table in read_whole(query["sql"])}
            rows.append(f"| {name} | {statistics.median(times):.0f} | {p95:.0f} | {queries} | {len(response.content) / 1000:.0f} |")
            figures[f"{name}_ms"] = round(p95, 1)
            if name in LISTS:
                asked.append(queries)
        figures["slowest_page_ms"] = max(value for name, value in figures.items() if name != "class_sheet_ms")
        for table, name in sorted(whole):
            print(f"read from end to end: {table}, for {name}")
        figures |= {"most_queries_of_a_list": max(asked), "tables_read_end_to_end": len(whole), "loaded_s": round(loaded_s)}
        more, found = _setting_work(scene, teacher)
        return rows + more, figures | found
    finally:
        Scene.tearDownClass()


def _setting_work(scene, teacher):  # type: ignore[no-untyped-def]
    """A score of four pages opened cold and again; a scale given to forty students on twelve instruments, all parts engraved."""
    from django.core.cache import cache

    from didactor.assignments.services import assign, parts_written
    from didactor.core.score.write.as_musicxml import Line, write_musicxml
    from didactor.library import notation, services
    from didactor.library.exercises import keep
    from didactor.library.jobs import engrave_parts
    from didactor.library.models import Engraving
    from didactor.library.study import _study
    from didactor.people.services import add_student
    from tests.music import TUNE

    bars = TUNE.split(" | ")[1:] * 10
    broken_chords = " | ".join(["D3:e A3:e F#3:e A3:e D3:e A3:e F#3:e A3:e"] * len(bars))
    with tempfile.TemporaryFile() as source:
        source.write(write_musicxml([Line(text=" | ".join(bars), lower=broken_chords, name="Piano", fifths=2)], title="Four pages"))
        source.flush()
        piece = services.add_piece(teacher=scene.teacher, upload=source, filename="four-pages.musicxml", title="Four pages")
    times = []
    for run in range(6):
        if run < 3:
            Engraving.objects.filter(revision__piece=piece).delete()
            cache.clear()
            notation.read_part.cache_clear()
            _study.cache_clear()
        begun = time.perf_counter()
        assert teacher.get(f"/library/{piece.pk}/").status_code == 200
        times.append(1000 * (time.perf_counter() - begun))
    cold, cached = statistics.median(times[:3]), statistics.median(times[3:])
    people = [
        add_student(
            studio=scene.teacher.studio, name=f"Player {i:02}", instrument=CLASS[i % len(CLASS)], level="intermediate", group_name="Class"
        )
        for i in range(40)
    ]
    scale = keep(teacher=scene.teacher, kind="scale", choices={"tonic": "Eb", "octaves": 1})
    fields = {"title": "Scale", "due_at": timezone.now(), "tempo": 80.0, "band_percent": 5.0}
    begun = time.perf_counter()
    assignment = assign(teacher=scene.teacher, passage=scale, enrolments=people, fields=fields)
    given = time.perf_counter() - begun
    engrave_parts(passage_ids=sorted({task.passage_id for task in assignment.tasks.all()}))
    parts = time.perf_counter() - begun
    assert parts_written(assignment).is_done
    rows = [
        f"| a piano score of {len(bars)} bars, cold | {cold:.0f} | {max(times[:3]):.0f} | |",
        f"| the same again | {cached:.0f} | {max(times[3:]):.0f} | |",
        f"| a scale to 40 students, {len(CLASS)} instruments | {1000 * given:.0f} | | |",
        f"| until all {parts_written(assignment).of} parts are engraved | {1000 * parts:.0f} | | |",
    ]
    figures = {"four_pages_cold_ms": round(cold), "four_pages_cached_ms": round(cached), "class_of_40_parts_s": round(parts, 2)}
    return rows, figures


def _school(scenes):  # type: ignore[no-untyped-def]
    """The test scene, grown to a year of a school."""
    from didactor.people.services import add_student
    from didactor.takes.models import Submission

    scene = scenes.build(listen_first=False)
    take = scenes.recorded(scene, {"kind": "wrong", "bar": "6", "beat": 0.0}, {"kind": "hesitation", "bar": "5", "beat": 0.0, "beats": 2.0})
    Submission.objects.create(take=take)
    scene.task.__class__.objects.filter(pk=scene.task.pk).update(state="handed_in")
    enrolments = [scene.ylva] + [
        add_student(
            studio=scene.teacher.studio,
            name=f"Student {i:03}",
            instrument=CLASS[i % 7],
            level="elementary",
            group_name="Skerries" if i % GROUPS == 0 else f"Group {i % GROUPS}",
        )
        for i in range(STUDENTS - 1)
    ]
    for number in (2, 3):
        person = scene.teacher.__class__.objects.create_user(username=f"teacher{number}", name=f"Teacher {number}", role="teacher")
        scene.teacher.__class__.objects.filter(pk=person.pk).update(studio=scene.teacher.studio)
    groups = [enrolments[k::GROUPS] for k in range(GROUPS)]
    copy = Copies(assignment=scene.assignment, passage=scene.task.passage, take=take)
    for week in range(WEEKS):
        for k in range(A_WEEK):
            for number, group in enumerate(groups):
                due = timedelta(days=7 * (week - WEEKS + 2) + 2 * k)
                copy.give(f"Week {week + 1}, passage {k + 1}, {number}", due, group, waits=week >= WEEKS - WAITING_WEEKS and number == 0)
    big = copy.give("To the whole class", timedelta(days=1), enrolments[:CLASS_SIZE], waits=True)
    with connection.cursor() as cursor:
        cursor.execute("VACUUM ANALYZE")  # as the database does by itself within a minute
    return scene, take, big


if __name__ == "__main__":
    sys.exit(main())
