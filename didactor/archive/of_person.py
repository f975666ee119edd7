"""All that is kept of one person, as one file: rows as JSON lines, and every recording and word as it was sent."""

from __future__ import annotations

import json
import re
import tempfile
import zipfile
from datetime import timedelta
from pathlib import PurePosixPath
from typing import IO, Any

from django.core.files import File
from django.core.files.storage import default_storage
from django.db.models import QuerySet
from django.utils import timezone

from didactor.archive.contents import file_fields, model_of
from didactor.archive.models import PersonCopy
from didactor.archive.writing import put_file, put_rows
from didactor.people.models import Person
from didactor.review.models import Standing

FORMAT = "didactor-person-1"
#: How long a copy lies there to be fetched.
KEPT_FOR = timedelta(days=7)

#: How one gets from a row to the person it is about. What a teacher is still writing is not given to anybody yet.
ROWS: dict[str, str] = {
    "people.Enrolment": "student",
    "people.Consent": "student",
    "assignments.Task": "enrolment__student",
    "assignments.FoundOut": "task__enrolment__student",
    "takes.Take": "task__enrolment__student",
    "takes.Analysis": "take__task__enrolment__student",
    "takes.SelfReview": "take__task__enrolment__student",
    "takes.SelfMark": "self_review__take__task__enrolment__student",
    "takes.Submission": "take__task__enrolment__student",
    "takes.Delivery": "take__task__enrolment__student",
    "practice.Attempt": "task__enrolment__student",
    "practice.Remedy": "task__enrolment__student",
    "practice.Drill": "task__enrolment__student",
    "practice.Habit": "enrolment__student",
    "review.Review": "submission__take__task__enrolment__student",
    "review.FormerAnswer": "review__submission__take__task__enrolment__student",
    "review.Mark": "review__submission__take__task__enrolment__student",
    "letters.Choice": "person",
    "letters.Letter": "person",
}
ONLY: dict[str, dict[str, Any]] = {
    "review.Review": {"sent_at__isnull": False},
    "review.FormerAnswer": {"review__sent_at__isnull": False},
    "review.Mark": {"review__sent_at__isnull": False, "standing": Standing.KEPT},
}
#: Of people nothing but this; what signs them in is in no copy.
ABOUT_A_PERSON = ("name", "role", "username", "email", "is_minor", "date_joined", "last_login")

READ_ME = """All that Didactor keeps of {name}, of {day}.

person.json      who it is about, with guardians and teachers by the numbers that the rows name
rows/*.jsonl     one line of JSON for each thing: enrolments, consents, tasks, takes with what was heard in them, self-assessments,
                 who had a recording, practice, answers as they were sent, letters
files/           recordings, films and spoken words as they were sent; the rows name them
contents.json    how many rows of each kind, which file a row's name is, and the SHA-256 of everything

Not in it: what a teacher is still writing, recordings put together of several players (others are in them), scores, and what signs
somebody in.
"""


def rows_about(label: str, person: Person) -> QuerySet[Any]:
    return model_of(label)._base_manager.filter(**{ROWS[label]: person.pk}, **ONLY.get(label, {})).order_by("pk")


def write_copy(person: Person, target: IO[bytes]) -> dict[str, int]:
    """Write all of a person; how many rows of each kind, and files."""
    counts: dict[str, int] = {}
    sums: dict[str, str] = {}
    missing: list[str] = []
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        archive.writestr("read_me.txt", READ_ME.format(name=person.name, day=timezone.localdate().isoformat()))
        archive.writestr("person.json", json.dumps(_who(person), indent=1, ensure_ascii=False, default=str))
        names: dict[str, str] = {}
        for label in ROWS:
            rows = rows_about(label, person)
            counts[label] = put_rows(archive, label, rows, sums)
            for field in file_fields(label):
                names |= {str(getattr(row, field)): _called(row, field) for row in rows.exclude(**{field: ""})}
        for name, called in names.items():
            if default_storage.exists(name):
                put_file(archive, name, sums, called)
            else:
                missing.append(name)
        contents = {"format": FORMAT, "rows": counts, "files": names, "sha256": sums, "missing": missing}
        archive.writestr("contents.json", json.dumps(contents, indent=1, ensure_ascii=False))
    return {**counts, "files": len(names) - len(missing)}


def _called(row: Any, field: str) -> str:
    """What a file is called in the copy: a recording by the name it came with."""
    file = PurePosixPath(str(getattr(row, field)))
    own = re.sub(r"[^\w. -]", "_", row.filename)[-80:] if field == "original" else file.name
    return f"files/{row._meta.model_name}-{row.pk}-{field}-{own}"


def _who(person: Person) -> dict[str, Any]:
    others = [*person.guardians.all(), *person.wards.all(), *Person.objects.filter(studio=person.studio, role="teacher")]
    return {
        "number": person.pk,
        **{field: getattr(person, field) for field in ABOUT_A_PERSON},
        "studio": str(person.studio),
        "people": {other.pk: {"name": other.name, "role": other.role} for other in others if other.pk != person.pk},
    }


def make(copy: PersonCopy) -> None:
    """Make the file. The disk holds it once more while it is made."""
    with tempfile.TemporaryFile() as made:
        write_copy(copy.person, made)
        copy.size = made.tell()
        made.seek(0)
        # Its name is nothing that can be guessed, as every file's.
        copy.file.save(f"{copy.person_id}.zip", File(made), save=False)
        copy.save(update_fields=["file", "size"])


def discard_old_copies() -> int:
    """What was not fetched for some days goes. Returns how many went."""
    old = list(PersonCopy.objects.filter(asked_at__lt=timezone.now() - KEPT_FOR))
    for copy in old:
        copy.delete()
    return len(old)
