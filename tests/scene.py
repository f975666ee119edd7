"""A small studio for the app and browser tests: a teacher, two students, a guardian, a piece, a passage, an assignment."""

from __future__ import annotations

import io
import shutil
import tempfile
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.test import override_settings
from django.utils import timezone, translation

from didactor.assignments.models import FULL_CHECKLIST, Assignment, Task
from didactor.assignments.services import assign, give_to
from didactor.library.models import Passage
from didactor.library.services import add_piece, cut_passage
from didactor.people.models import Enrolment, Person, Role, Studio
from didactor.people.services import add_guardian, add_student
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take
from didactor.takes.services import receive_take
from tests.music import musicxml, wav

PASSWORD = "reef-lantern-42"


@dataclass(frozen=True, kw_only=True)
class Scene:
    teacher: Person
    ylva: Enrolment
    ossian: Enrolment
    guardian: Person
    passage: Passage
    assignment: Assignment

    @property
    def task(self) -> Task:
        return self.assignment.tasks.get(enrolment=self.ylva)

    @property
    def other_task(self) -> Task:
        return self.assignment.tasks.get(enrolment=self.ossian)


def teacher(studio_name: str, username: str) -> Person:
    studio = Studio.objects.create(name=studio_name)
    return Person.objects.create_user(
        username=username, password=PASSWORD, name=username.title(), role=Role.TEACHER, studio=studio, is_owner=True
    )


def build(**fields: Any) -> Scene:
    """Make the scene. ``fields`` change the assignment's."""
    person = teacher("Outer light", "hedda")
    ylva = add_student(studio=person.studio, name="Ylva", instrument="clarinet", level="advanced", group_name="Skerries")
    ossian = add_student(studio=person.studio, name="Ossian", instrument="violin", level="elementary", is_minor=True)
    guardian = add_guardian(student=ossian.student, name="Runa")
    score = musicxml()
    with tempfile.TemporaryFile() as source:
        source.write(score)
        source.flush()
        piece = add_piece(teacher=person, upload=source, filename="test-tune.musicxml")
    passage = cut_passage(teacher=person, revision=piece.current, part=1, bars="0-8")
    values = {
        "title": "Test tune, whole",
        "due_at": timezone.now() + timedelta(days=3),
        "tempo": 92.0,
        "stage": "at_tempo",
        "band_percent": 5.0,
        "checklist": FULL_CHECKLIST,
        "students_see": "figures",
        **fields,
    }
    assignment = assign(teacher=person, passage=passage, enrolments=[ylva, ossian], fields=values)
    return Scene(teacher=person, ylva=ylva, ossian=ossian, guardian=guardian, passage=passage, assignment=assignment)


def recorded(scene: Scene, *faults: dict[str, Any], hear: bool = True, data: bytes | None = None) -> Take:
    """A take of Ylva's, heard like any other."""
    source = io.BytesIO(data if data is not None else wav(*faults))
    take = receive_take(student=scene.ylva.student, task=scene.task, source=source, filename="take.wav")
    if hear:
        analyse_take(take_id=take.pk)
        take.refresh_from_db()
    return take


def another(scene: Scene, name: str) -> Task:
    """One more student with the scene's assignment, an adult."""
    enrolment = add_student(studio=scene.teacher.studio, name=name, instrument="clarinet", level="advanced")
    give_to(assignment=scene.assignment, enrolments=[enrolment])
    return scene.assignment.tasks.get(enrolment=enrolment)


def recorded_by(task: Task, data: bytes) -> Take:
    """Somebody else's take, not heard."""
    return receive_take(student=task.student, task=task, source=io.BytesIO(data), filename="take.wav")


class OwnFolders:
    """Mixin: recordings, uploads and drawings of a test class live in a folder of their own."""

    @classmethod
    def setUpClass(cls) -> None:
        cls._folder = tempfile.mkdtemp(prefix="didactor-test-")
        storages = {**settings.STORAGES, "default": {**settings.STORAGES["default"], "OPTIONS": {"location": f"{cls._folder}/media"}}}
        caches = {"default": {"BACKEND": "django.core.cache.backends.locmem.LocMemCache"}}
        cls._override = override_settings(
            MEDIA_ROOT=f"{cls._folder}/media", UPLOAD_ROOT=f"{cls._folder}/uploads", STORAGES=storages, CACHES=caches
        )
        cls._override.enable()
        # Whatever the last request of another class spoke.
        translation.activate(settings.LANGUAGE_CODE)
        super().setUpClass()  # type: ignore[misc]

    @classmethod
    def tearDownClass(cls) -> None:
        super().tearDownClass()  # type: ignore[misc]
        cls._override.disable()
        shutil.rmtree(cls._folder, ignore_errors=True)
