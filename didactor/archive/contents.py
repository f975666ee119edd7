"""What a studio's archive holds: which rows, in which order, and the files they name."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from django.apps import apps
from django.db.migrations.loader import MigrationLoader
from django.db.models import FileField, Model, QuerySet

from didactor.people.models import Studio

FORMAT = "didactor-studio-1"

#: Every kind of row that belongs to a studio, and how one gets from it to the studio.
ROWS = {
    "people.Studio": "pk",
    "people.Group": "studio",
    "people.Person": "studio",
    "people.Enrolment": "student__studio",
    "people.Consent": "student__studio",
    "people.SignInCard": "person__studio",
    "people.PictureCode": "person__studio",
    "library.Piece": "studio",
    "library.PieceRevision": "piece__studio",
    "library.BarCorrection": "piece__studio",
    "library.Passage": "revision__piece__studio",
    "library.Reference": "passage__revision__piece__studio",
    "library.Pin": "passage__revision__piece__studio",
    "assignments.Series": "studio",
    "assignments.Template": "studio",
    "assignments.WeekNote": "studio",
    "assignments.Slot": "teacher__studio",
    "assignments.Assignment": "studio",
    "assignments.Task": "assignment__studio",
    "assignments.FoundOut": "task__assignment__studio",
    "takes.Take": "task__assignment__studio",
    "takes.Analysis": "take__task__assignment__studio",
    "takes.SelfReview": "take__task__assignment__studio",
    "takes.SelfMark": "self_review__take__task__assignment__studio",
    "takes.Delivery": "take__task__assignment__studio",
    "takes.Submission": "take__task__assignment__studio",
    "practice.Remedy": "task__assignment__studio",
    "practice.Drill": "task__assignment__studio",
    "practice.Attempt": "task__assignment__studio",
    "practice.Habit": "enrolment__student__studio",
    "review.Scale": "teacher__studio",
    "review.Review": "submission__take__task__assignment__studio",
    "review.FormerAnswer": "review__submission__take__task__assignment__studio",
    "review.Mark": "review__submission__take__task__assignment__studio",
    "letters.Choice": "person__studio",
    "letters.Letter": "person__studio",
}
#: What is made anew where it is wanted, or belongs to a moment.
LEFT_OUT = {
    "archive.PersonCopy": "made anew",
    "people.Invitation": "made anew",
    "people.SignedIn": "sessions",
    "people.SentForm": "forms that are on their way",
    "library.Import": "files on their way in",
    "library.ImportedFile": "files on their way in",
    "library.Engraving": "drawn again",
    "library.ModelSound": "rendered again",
    "library.ReferenceSound": "stretched again",
    "takes.Together": "put together again",
    "takes.Upload": "recordings on their way in",
}


def model_of(label: str) -> type[Model]:
    found: type[Model] = apps.get_model(label)
    return found


def rows_of(label: str, studio: Studio) -> QuerySet[Any]:
    """A studio's rows of one kind, in the order of their numbers."""
    return model_of(label)._base_manager.filter(**{ROWS[label]: studio.pk}).order_by("pk")


def file_fields(label: str) -> list[str]:
    return [field.name for field in model_of(label)._meta.fields if isinstance(field, FileField)]


def files_of(studio: Studio) -> Iterator[str]:
    """Names in the store of all files that the rows name, each once."""
    seen: set[str] = set()
    for label in ROWS:
        for field in file_fields(label):
            for name in rows_of(label, studio).exclude(**{field: ""}).values_list(field, flat=True):
                if name not in seen:
                    seen.add(name)
                    yield name


def newest_migrations() -> dict[str, str]:
    """By app, the last of its migrations: the shape of the tables."""
    loader = MigrationLoader(None)
    own = {label.split(".")[0] for label in ROWS}
    return {app: name for app, name in sorted(loader.graph.leaf_nodes()) if app in own}
