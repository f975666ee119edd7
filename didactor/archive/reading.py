"""A studio's archive into an empty installation: all of it, or nothing."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Mapping
from pathlib import PurePosixPath
from typing import IO, Any

from django.core import serializers
from django.core.files import File
from django.core.files.storage import default_storage
from django.core.management.color import no_style
from django.db import DatabaseError, connection, transaction

from didactor.archive.contents import FORMAT, ROWS, model_of, newest_migrations
from didactor.archive.writing import CHUNK
from didactor.people.models import Studio


class ArchiveRefused(Exception):
    """Why an archive is not taken in; the words say what to do. Nothing of it was kept."""


def import_studio(source: IO[bytes]) -> dict[str, int]:
    """Take it in; how many rows of each kind, and files. Raises ``ArchiveRefused``."""
    if Studio.objects.exists():
        raise ArchiveRefused("There is a studio here already. An archive goes into an empty installation, with other tables and folders.")
    try:
        with zipfile.ZipFile(source) as archive:
            manifest = _manifest(archive)
            _check_whole(archive, manifest)
            return _take_in(archive, manifest)
    except (zipfile.BadZipFile, EOFError, OSError, KeyError) as error:
        raise ArchiveRefused("This file is no archive, or it was cut off. Copy it again.") from error


def _manifest(archive: zipfile.ZipFile) -> dict[str, Any]:
    try:
        manifest: dict[str, Any] = json.loads(archive.read("manifest.json"))
        form, migrations = manifest["format"], dict(manifest["migrations"])
        own = FORMAT.rsplit("-", 1)[0]
        known = isinstance(form, str) and form.startswith(f"{own}-")
    except (ValueError, TypeError) as error:
        raise ArchiveRefused("Its list of contents cannot be read.") from error
    if not known:
        raise ArchiveRefused("This is no archive of a studio.")
    here = newest_migrations()
    if form != FORMAT or any(migrations.get(app, "") > name for app, name in here.items()) or set(migrations) - set(here):
        raise ArchiveRefused("It was made by a newer version. Install that version, or a later one, then take it in.")
    if migrations != here:
        raise ArchiveRefused(
            "It was made by an older version. Install that version, take it in there, then bring the installation up to date."
        )
    if set(manifest["rows"]) != set(ROWS):
        raise ArchiveRefused("Its list of contents does not fit this version.")
    return manifest


def _check_whole(archive: zipfile.ZipFile, manifest: Mapping[str, Any]) -> None:
    """Every part is there, is what it was, and lies where it may; before anything is kept."""
    sums: dict[str, str] = manifest["sha256"]
    inside = {info.filename for info in archive.infolist()} - {"manifest.json"}
    if inside != set(sums) or any(f"rows/{label}.jsonl" not in sums for label in ROWS):
        raise ArchiveRefused("Parts of it are missing, or there are others than it says. Copy it again.")
    for name, wanted in sums.items():
        path = PurePosixPath(name)
        if path.is_absolute() or ".." in path.parts or path.parts[0] not in ("rows", "files"):
            raise ArchiveRefused(f"It holds a file where none may lie: {name}")
        digest = hashlib.sha256()
        with archive.open(name) as part:
            while chunk := part.read(CHUNK):
                digest.update(chunk)
        if digest.hexdigest() != wanted:
            raise ArchiveRefused(f"A part of it is damaged: {name}. Copy it again.")


def _take_in(archive: zipfile.ZipFile, manifest: Mapping[str, Any]) -> dict[str, int]:
    kept: list[str] = []
    try:
        for name in manifest["sha256"]:
            if name.startswith("files/"):
                _keep_file(archive, name, kept)
        with transaction.atomic():
            counts = {label: _keep_rows(archive, label) for label in ROWS}
            wrong = next((label for label in ROWS if counts[label] != manifest["rows"][label]), None)
            if wrong:
                raise ArchiveRefused(f"It does not hold as many rows as it says: {wrong}.")
            connection.check_constraints()
            with connection.cursor() as cursor:
                for statement in connection.ops.sequence_reset_sql(no_style(), [model_of(label) for label in ROWS]):
                    cursor.execute(statement)
    except (serializers.base.DeserializationError, DatabaseError) as error:
        _discard(kept)
        raise ArchiveRefused(f"A row in it cannot be kept: {str(error)[:200]}") from error
    except BaseException:
        _discard(kept)
        raise
    return {**counts, "files": len(kept)}


def _keep_file(archive: zipfile.ZipFile, part: str, kept: list[str]) -> None:
    name = part.removeprefix("files/")
    if default_storage.exists(name):
        raise ArchiveRefused(f"There is a file here already: {name}. An archive goes into an empty installation.")
    with archive.open(part) as source:
        saved = default_storage.save(name, File(source, name))  # type: ignore[arg-type]
    kept.append(saved)
    if saved != name:
        raise ArchiveRefused(f"This file cannot be kept under its name: {name}")


def _keep_rows(archive: zipfile.ZipFile, label: str) -> int:
    count = 0
    with archive.open(f"rows/{label}.jsonl") as lines:
        for line in lines:
            for row in serializers.deserialize("jsonl", line.decode()):
                if row.object._meta.label != label:
                    raise ArchiveRefused(f"A row lies in the wrong place: {row.object._meta.label} among {label}.")
                row.save(force_insert=True)
                count += 1
    return count


def _discard(names: list[str]) -> None:
    for name in names:
        default_storage.delete(name)
