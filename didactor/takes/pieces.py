"""The pieces of a recording on its way in: in a folder of this machine, or in the store that several machines share."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

from django.conf import settings
from django.core.files import File
from django.core.files.storage import default_storage

from didactor.takes.models import Upload
from didactor.web.store import UPLOADS, is_shared, on_disk

CHUNK = 1024 * 1024


def room() -> Path:
    """The folder of this machine for what is on its way."""
    folder = Path(settings.UPLOAD_ROOT)
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def begin(upload: Upload) -> None:
    room()
    if not is_shared():
        upload.path.touch(mode=0o600)


def add(upload: Upload, piece: IO[bytes]) -> int:
    """Put a piece where the last one ended; returns where it ends. Sent again it lies where it lay before. Raises ``OSError``."""
    if is_shared():
        size = piece.seek(0, 2)
        piece.seek(0)
        if size:
            default_storage.save(_name(upload, upload.offset), File(piece))
        return upload.offset + size
    with upload.path.open("r+b") as target:
        target.seek(upload.offset)
        shutil.copyfileobj(piece, target, CHUNK)
        end = target.tell()
    # Before the row says how far it came.
    on_disk(upload.path)
    return end


@contextmanager
def whole(upload: Upload) -> Iterator[IO[bytes]]:
    """The recording, when all of it is there. Raises ``OSError`` where a piece is missing."""
    if not is_shared():
        with upload.path.open("rb") as source:
            yield source
        return
    with tempfile.TemporaryFile(dir=room()) as joined:
        while joined.tell() < upload.length:
            before = joined.tell()
            with default_storage.open(_name(upload, before)) as piece:
                shutil.copyfileobj(piece, joined, CHUNK)
            if joined.tell() == before:
                raise OSError("a piece of this upload is empty")
        yield joined


def discard(upload: Upload) -> None:
    """All pieces, gone."""
    if not is_shared():
        upload.path.unlink(missing_ok=True)
        return
    for name in default_storage.listdir(f"{UPLOADS}{upload.pk}/")[1]:
        default_storage.delete(f"{UPLOADS}{upload.pk}/{name}")


def _name(upload: Upload, offset: Any) -> str:
    return f"{UPLOADS}{upload.pk}/{offset:013d}"
