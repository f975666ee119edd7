"""Server time of the pages, with a year of a school's data, measured inside Django without a network.

    bench/site            needs the project's database (bin/start or bin/test made it); uses a test database of its own
    bench/site --write    also refreshes its part of docs/benchmarks.md

A school of 60 students, 40 weeks with two assignments to groups of 20, one heard and submitted take for each task. The
takes' results are copies of one that was really heard. Prints its table; the last line is one JSON object; exits 1 below a floor.
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

from django.db import connection  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from django.utils import timezone  # noqa: E402
from report import close  # noqa: E402

RUNS = 15
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
    table = "\n".join(["| page | median, ms | slowest, ms | size, kB |", "|---|---|---|---|", *rows])
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
        scene, take = _school(scenes)
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
            "stand": (student, "/stand/"),
            "task": (student, f"/stand/{scene.task.pk}/"),
            "take": (student, f"/stand/takes/{take.pk}/"),
        }
        rows, figures = [], {}
        for name, (client, url) in pages.items():
            response = client.get(url)
            assert response.status_code == 200, (name, response.status_code)
            times = []
            for _ in range(RUNS):
                begun = time.perf_counter()
                client.get(url)
                times.append(1000 * (time.perf_counter() - begun))
            rows.append(f"| {name} | {statistics.median(times):.0f} | {max(times):.0f} | {len(response.content) / 1000:.0f} |")
            figures[f"{name}_ms"] = round(statistics.median(times), 1)
        figures["slowest_page_ms"] = max(figures.values())
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
    from didactor.assignments.models import Assignment, Task
    from didactor.people.services import add_student
    from didactor.review.models import Review
    from didactor.takes.models import Analysis, SelfReview, Submission, Take

    scene = scenes.build(listen_first=False)
    take = scenes.recorded(scene, {"kind": "wrong", "bar": "6", "beat": 0.0}, {"kind": "hesitation", "bar": "5", "beat": 0.0, "beats": 2.0})
    Submission.objects.create(take=take)
    scene.task.__class__.objects.filter(pk=scene.task.pk).update(state="handed_in")
    analysis = take.analyses.get()
    enrolments = [scene.ylva] + [
        add_student(
            studio=scene.teacher.studio, name=f"Student {i:02}", instrument="clarinet", level="elementary", group_name=f"Group {i % 3}"
        )
        for i in range(59)
    ]
    template = Assignment.objects.get(pk=scene.assignment.pk)
    now = timezone.now()
    for week in range(40):
        for half in range(2):
            template.pk, template.due_at = None, now + timedelta(days=7 * (week - 38) + 3 * half)
            template.title = f"Week {week + 1}, passage {half + 1}"
            template.save()
            group = enrolments[20 * ((week + half) % 3) : 20 * ((week + half) % 3) + 20]
            tasks = Task.objects.bulk_create(
                [
                    Task(assignment=template, enrolment=e, passage=scene.task.passage, state="handed_in" if week > 36 else "passed")
                    for e in group
                ]
            )
            takes = Take.objects.bulk_create(
                [
                    Take(
                        task=task,
                        number=1,
                        original=take.original.name,
                        filename="take.wav",
                        size=take.size,
                        sha256=take.sha256,
                        basis=take.basis,
                        recorded_by=task.enrolment.student,
                        state="analysed",
                        playback=take.playback.name,
                        duration_s=take.duration_s,
                        peaks=take.peaks,
                    )
                    for task in tasks
                ]
            )
            Analysis.objects.bulk_create(
                [
                    Analysis(
                        take=t,
                        engine_version=analysis.engine_version,
                        parameters={},
                        result=analysis.result,
                        summary=analysis.summary,
                        seconds=1,
                    )
                    for t in takes
                ]
            )
            SelfReview.objects.bulk_create([SelfReview(take=t, work_on="bar 6", done_at=now) for t in takes])
            submissions = Submission.objects.bulk_create([Submission(take=t) for t in takes])
            if week <= 36:
                Review.objects.bulk_create(
                    [Review(submission=s, teacher=scene.teacher, decision="passed", sent_at=now) for s in submissions]
                )
    with connection.cursor() as cursor:
        cursor.execute("ANALYZE")  # as the database does by itself within a minute
    return scene, take


if __name__ == "__main__":
    sys.exit(main())
