"""How long a backup takes, and bringing it back, with every row and byte compared.

    bench/backup                2 GB of recordings in 400 files, 30,000 rows of letters
    bench/backup --gigabytes 8
    bench/backup --write        also refreshes its part of docs/benchmarks.md

Needs the project's database server and twice the space. The files are random bytes: nothing can be made smaller. The last line is one JSON
object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]
FOLDER = Path(tempfile.mkdtemp(prefix="didactor-backup-bench-", dir=os.environ.get("TMPDIR", "/var/tmp")))

import django  # noqa: E402
from report import close  # noqa: E402

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "didactor.config.settings")
django.setup()

from django.conf import settings  # noqa: E402
from django.core.files.base import ContentFile  # noqa: E402
from django.core.management import call_command  # noqa: E402
from django.db import connection, connections  # noqa: E402
from django.test.utils import override_settings  # noqa: E402
from django.utils import timezone  # noqa: E402

from didactor.letters.models import Letter  # noqa: E402
from didactor.library.models import Piece, PieceRevision  # noqa: E402
from didactor.operation.backup import back_up  # noqa: E402
from didactor.operation.restoring import restore  # noqa: E402
from didactor.people.models import Person, Studio  # noqa: E402

NAMES = ("didactor_backup_bench", "didactor_backup_bench_back")
FILES, ROWS = 400, 30_000


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--gigabytes", type=float, default=2.0)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    own = settings.DATABASES["default"]["NAME"]
    try:
        with override_settings(STATE=FOLDER):
            figures = _measured(options.gigabytes)
    finally:
        _use(own)
        with connection.cursor() as cursor:
            for name in NAMES:
                cursor.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
        shutil.rmtree(FOLDER, ignore_errors=True)
    return close("backup", "", figures, write=options.write)


def _measured(gigabytes: float) -> dict[str, float]:
    with connection.cursor() as cursor:
        for name in NAMES:
            cursor.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
            cursor.execute(f"CREATE DATABASE {name}")
    _use(NAMES[0])
    with override_settings(MEDIA_ROOT=str(FOLDER / "media"), STORAGES=_stored(FOLDER / "media")):
        call_command("migrate", verbosity=0)
        _fill(int(gigabytes * 1e9 / FILES))
        begun = time.monotonic()
        done = back_up(FOLDER / "kept")
        backup_s = time.monotonic() - begun
        begun = time.monotonic()
        again = back_up(FOLDER / "next", before=FOLDER / "kept")
        next_s = time.monotonic() - begun
        rows = _rows()
    _use(NAMES[1])
    with override_settings(MEDIA_ROOT=str(FOLDER / "back"), STORAGES=_stored(FOLDER / "back")):
        begun = time.monotonic()
        restore(FOLDER / "kept")
        restore_s = time.monotonic() - begun
        same_rows = _rows() == rows
    same = all((FOLDER / "media" / name).read_bytes() == (FOLDER / "back" / name).read_bytes() for name in _files(FOLDER / "media"))
    return {
        "gigabytes": round(done.bytes / 1e9, 2),
        "files": done.files,
        "every_row_and_byte": int(same and same_rows and done.files == FILES),
        "backup_min_per_gb": round(backup_s / 60 / gigabytes, 3),
        "next_day_linked": again.linked,
        "next_day_s": round(next_s, 1),
        "restore_min_per_gb": round(restore_s / 60 / gigabytes, 3),
    }


def _use(name: str) -> None:
    connections.close_all()
    settings.DATABASES["default"]["NAME"] = connection.settings_dict["NAME"] = name


def _stored(folder: Path) -> dict[str, object]:
    folder.mkdir(exist_ok=True)
    return {**settings.STORAGES, "default": {**settings.STORAGES["default"], "OPTIONS": {"location": str(folder)}}}


def _files(folder: Path) -> list[str]:
    return [str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file()]


def _fill(size: int) -> None:
    studio = Studio.objects.create(name="Bench")
    person = Person.objects.create_user(username="bench", name="Bench", role="teacher", studio=studio)
    piece = Piece.objects.create(studio=studio, title="Bench", created_by=person)
    for number in range(FILES):
        kept = PieceRevision(piece=piece, number=number + 1, prepared=b"", reading={})
        kept.original.save(f"{number}.bin", ContentFile(os.urandom(size)), save=True)
    now = timezone.now()
    Letter.objects.bulk_create(
        (
            Letter(person=person, kind="handed_in", about=str(k), address="a@b.example", subject=f"Row {k}", body="x" * 400, made_at=now)
            for k in range(ROWS)
        ),
        batch_size=2000,
    )


def _rows() -> list[tuple[object, ...]]:
    return [
        *Letter.objects.order_by("pk").values_list("pk", "subject", "body", "made_at"),
        *PieceRevision.objects.order_by("pk").values_list("pk", "original", "number"),
    ]


if __name__ == "__main__":
    sys.exit(main())
