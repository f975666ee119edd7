"""A studio into one file: a ZIP archive with a manifest, rows as JSON lines, and every file as it was."""

from __future__ import annotations

import datetime
import hashlib
import io
import json
import zipfile
from typing import IO, Any

from django.core import serializers
from django.core.files.storage import default_storage
from django.core.serializers.json import DjangoJSONEncoder
from django.db import connection, transaction
from django.db.models import QuerySet
from django.utils import timezone

from didactor.archive.contents import FORMAT, ROWS, files_of, newest_migrations, rows_of
from didactor.people.models import Studio

CHUNK = 1 << 20


class Exact(DjangoJSONEncoder):
    """Times to the microsecond, as the database holds them; Django's own encoder cuts them to milliseconds."""

    def default(self, o: Any) -> Any:
        return o.isoformat() if isinstance(o, datetime.datetime | datetime.time) else super().default(o)


def export_studio(studio: Studio, target: IO[bytes]) -> dict[str, int]:
    """Write it; how many rows of each kind, and files. A file that a row names and the store does not have is told in ``missing``."""
    counts: dict[str, int] = {}
    sums: dict[str, str] = {}
    missing: list[str] = []
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        # All rows are of one moment.
        with transaction.atomic():
            if not connection.savepoint_ids:
                with connection.cursor() as cursor:
                    cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
            for label in ROWS:
                counts[label] = put_rows(archive, label, rows_of(label, studio), sums)
            names = list(files_of(studio))
        for name in names:
            if not default_storage.exists(name):
                missing.append(name)
                continue
            put_file(archive, name, sums)
        manifest = {
            "format": FORMAT,
            "studio": studio.name,
            "made_at": timezone.now().isoformat(),
            "migrations": newest_migrations(),
            "rows": counts,
            "sha256": sums,
            "missing": missing,
        }
        archive.writestr("manifest.json", json.dumps(manifest, indent=1, ensure_ascii=False), zipfile.ZIP_DEFLATED)
    return {**counts, "files": len(names) - len(missing), "missing": len(missing)}


def put_rows(archive: zipfile.ZipFile, label: str, rows: QuerySet[Any], sums: dict[str, str]) -> int:
    """Rows of one kind as JSON lines; how many. Their SHA-256 goes into ``sums``."""
    name, count, digest = f"rows/{label}.jsonl", 0, hashlib.sha256()
    info = zipfile.ZipInfo(name)
    info.compress_type = zipfile.ZIP_DEFLATED
    with archive.open(info, "w", force_zip64=True) as out:
        for row in rows.iterator(500):
            line = io.StringIO()
            serializers.serialize("jsonl", [row], stream=line, ensure_ascii=False, cls=Exact)
            text = line.getvalue().rstrip("\n").encode() + b"\n"
            digest.update(text)
            out.write(text)
            count += 1
    sums[name] = digest.hexdigest()
    return count


def put_file(archive: zipfile.ZipFile, name: str, sums: dict[str, str], called: str = "") -> None:
    """A file of the store as it is, under its own name or as it is to be called. Its SHA-256 goes into ``sums``."""
    called = called or f"files/{name}"
    digest = hashlib.sha256()
    with default_storage.open(name) as source, archive.open(called, "w", force_zip64=True) as out:
        while chunk := source.read(CHUNK):
            digest.update(chunk)
            out.write(chunk)
    sums[called] = digest.hexdigest()
