"""Lists, where many schools share one database: how long they take, and whether the database finds their rows by an index.

    bench/schools                 100 studios of 100 students (rows only), a dozen assignments to each student
    bench/schools --studios 10    fewer
    bench/schools --write         also refreshes its part of docs/benchmarks.md

Every address that needs no row of its own, and the lists of one group, student and assignment, are opened by the owner, a student and a
guardian of one studio amid the others, inside Django without a network. Every question a page asks the database is asked again with
EXPLAIN: one that reads a table of more than 2,000 rows from end to end is told. The last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import os
import sys
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

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
from django.urls import NoReverseMatch, reverse  # noqa: E402
from explained import read_whole  # noqa: E402
from report import close  # noqa: E402

from didactor.assignments.models import Assignment  # noqa: E402
from didactor.library.models import Passage, Piece, PieceRevision  # noqa: E402
from didactor.people.models import Enrolment, Group, Person, Role, Studio  # noqa: E402
from didactor.people.services import add_guardian  # noqa: E402
from didactor.takes.models import Submission  # noqa: E402
from didactor.web.loading import load_pages  # noqa: E402
from didactor.web.processes import leave_what_is_loaded  # noqa: E402
from tests import scene as scenes  # noqa: E402
from tests.apps.who_may import EXPECTED  # noqa: E402

RUNS, GROUPS, STUDENTS, TIMES = 20, 4, 100, 12


class Folders(scenes.OwnFolders):
    pass


class Plain:
    @classmethod
    def setUpClass(cls) -> None: ...

    @classmethod
    def tearDownClass(cls) -> None: ...


class Scene(Folders, Plain):
    pass


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--studios", type=int, default=100)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    Scene.setUpClass()
    try:
        rows, figures = _measure(options.studios)
    finally:
        Scene.tearDownClass()
        teardown_databases(databases, verbosity=0)
    table = "\n".join(["| address | as | 95 of 100, ms | queries |", "|---|---|---|---|", *rows])
    return close("schools", table, figures, write=options.write)


def _measure(studios: int) -> tuple[list[str], dict[str, Any]]:
    begun = time.perf_counter()
    scene, assignment = _schools(studios)
    built_s = round(time.perf_counter() - begun)
    guardian = add_guardian(student=scene.ylva.student, name="Guardian")
    # As where pages are served; what the generator leaves behind is nothing a server would carry.
    load_pages()
    leave_what_is_loaded()
    found: list[tuple[float, str, str, int]] = []
    end_to_end: set[tuple[str, str]] = set()
    asked = 0
    for role, person in (("owner", scene.teacher), ("student", scene.ylva.student), ("guardian", guardian)):
        client = Client()
        client.force_login(person, backend="didactor.people.backends.PasswordBackend")
        for name, url in _addresses(scene, assignment):
            if client.get(url).status_code != 200:
                continue
            times = []
            for _ in range(RUNS):
                begun = time.perf_counter()
                client.get(url)
                times.append(1000 * (time.perf_counter() - begun))
            with CaptureQueriesContext(connection) as captured:
                client.get(url)
            found.append((sorted(times)[round(0.95 * (RUNS - 1))], name, role, len(captured)))
            asked += len(captured)
            end_to_end |= {(table, name) for query in captured for table in read_whole(query["sql"])}
    found.sort(reverse=True)
    for table, name in sorted(end_to_end):
        print(f"read from end to end: {table}, for {name}")
    rows = [f"| {name} | {role} | {ms:.0f} | {queries} |" for ms, name, role, queries in found[:15]]
    rows.append(f"| {len(found) - 15} more | | {found[15][0]:.0f} or less | |")
    figures = {
        "studios": Studio.objects.count(),
        "students": Person.objects.filter(role=Role.STUDENT).count(),
        "takes": Submission.objects.count(),
        "pages": len(found),
        "slowest_page_ms": round(found[0][0], 1),
        "questions_explained": asked,
        "tables_read_end_to_end": len(end_to_end),
        "built_s": built_s,
    }
    return rows, figures


def _addresses(scene: scenes.Scene, assignment: Assignment) -> Iterator[tuple[str, str]]:
    for name in sorted(EXPECTED):
        try:
            yield name, reverse(name)
        except NoReverseMatch:
            continue
    for name, number in (
        ("assignment", assignment.pk),
        ("class_sheet", assignment.pk),
        ("record", scene.ylva.student_id),
        ("progress:weeks", scene.ylva.student_id),
        ("group", scene.ylva.group_id),
        ("review:detail", Submission.objects.get(take__task__assignment=assignment, take__task__enrolment=scene.ylva).pk),
    ):
        yield name, reverse(name, args=[number])


def _schools(studios: int) -> tuple[scenes.Scene, Assignment]:
    """The test scene grown to one of many schools; returns it with its last assignment."""
    scene = scenes.build(listen_first=False)
    take = scenes.recorded(scene, {"kind": "wrong", "bar": "6", "beat": 0.0}, {"kind": "hesitation", "bar": "5", "beat": 0.0, "beats": 2.0})
    Submission.objects.create(take=take)
    passage, last = scene.task.passage, scene.assignment
    for number in range(studios):
        own = number == studios // 2
        teacher = scene.teacher if own else _teacher(number)
        given = Assignment.objects.get(pk=scene.assignment.pk)
        if not own:
            given.passage = _library(passage, teacher)
            given.studio, given.teacher, given.pk = teacher.studio, teacher, None
            given.save()
        enrolments = _students(number, teacher.studio)
        if own:
            enrolments[0] = scene.ylva
        copies = Copies(assignment=given, passage=passage if own else given.passage, take=take, whole=own)
        for time_ in range(TIMES):
            for group in range(GROUPS):
                due = timedelta(days=7 * (time_ - TIMES + 2))
                given = copies.give(f"Week {time_ + 1}, {group}", due, enrolments[group::GROUPS], waits=time_ == TIMES - 1)
                last = given if own and group == 0 else last
    with connection.cursor() as cursor:
        cursor.execute("VACUUM ANALYZE")  # as the database does by itself within a minute
    return scene, last


def _teacher(number: int) -> Person:
    studio = Studio.objects.create(name=f"Studio {number}")
    return Person.objects.create(username=f"owner-{number}", name=f"Owner {number}", role=Role.TEACHER, studio=studio, is_owner=True)


def _students(number: int, studio: Studio | None) -> list[Enrolment]:
    people = Person.objects.bulk_create(
        [Person(username=f"s-{number}-{i}", name=f"Student {number}-{i}", role=Role.STUDENT, studio=studio) for i in range(STUDENTS)]
    )
    groups = Group.objects.bulk_create([Group(studio=studio, name=f"Group {i}") for i in range(GROUPS)])
    return Enrolment.objects.bulk_create(
        [Enrolment(student=p, group=groups[i % GROUPS], instrument="clarinet", level="elementary") for i, p in enumerate(people)]
    )


def _library(passage: Passage, teacher: Person) -> Passage:
    """A library like the scene's, thirty pieces of one passage; returns the last one's."""
    cut = Passage.objects.get(pk=passage.pk)
    for number in range(30):
        piece = Piece.objects.get(pk=passage.revision.piece_id)
        piece.pk, piece.studio, piece.created_by, piece.title = None, teacher.studio, teacher, f"Piece {number}"
        piece.save()
        revision = PieceRevision.objects.get(pk=passage.revision_id)
        revision.pk, revision.piece, revision.arranged_from = None, piece, None
        revision.save()
        cut.pk, cut.revision, cut.created_by, cut.arranged_from = None, revision, teacher, None
        cut.save()
    return cut


if __name__ == "__main__":
    sys.exit(main())
