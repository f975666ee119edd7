"""Where recordings and scores are kept: a folder of this machine, or an object store (S3) that several machines share.

In an object store what is on its way in lies too, so that it goes on over another machine: nothing of it is in a folder that only one has.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any
from urllib.parse import quote, urlsplit

from botocore.exceptions import BotoCoreError, ClientError
from django.conf import settings
from django.core.files import File
from django.core.files.storage import FileSystemStorage, default_storage

CHUNK = 256 * 1024
#: What lies in the store for a while only: pieces of uploads, samples of attempts that are to be heard.
UPLOADS, SAMPLES = "uploads/", "samples/"
#: What a store that is away, or has no room, raises.
AWAY = (OSError, BotoCoreError, ClientError)
#: How long an address that the proxy is given holds, seconds.
HOLDS_S = 60


class FolderStore(FileSystemStorage):
    """A folder of this machine. What is in it has reached the disk before a row names it: a power cut leaves no empty file behind a row."""

    def _save(self, name: str, content: File[Any]) -> str:
        kept: str = super()._save(name, content)  # type: ignore[misc]
        on_disk(Path(self.path(kept)))
        return kept


def on_disk(path: Path) -> None:
    """Wait until a file, and its name in its folder, are on the disk."""
    for place in (path, path.parent):
        handle = os.open(place, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def is_shared() -> bool:
    """Whether the store is one that other machines reach, too."""
    return bool(settings.STORE)


def chunks(file: Any, start: int, length: int) -> Iterator[bytes]:
    """So many bytes of a stored file from there on; of an object store no more than these are fetched."""
    if length <= 0:
        return
    if is_shared():
        asked = f"bytes={start}-{start + length - 1}"
        body = _object(str(file.name)).get(Range=asked)["Body"]
        try:
            yield from body.iter_chunks(CHUNK)
        finally:
            body.close()
        return
    source: IO[bytes] = file.open("rb")
    with source:
        source.seek(start)
        while length > 0 and (chunk := source.read(min(CHUNK, length))):
            length -= len(chunk)
            yield chunk


def _object(name: str) -> Any:
    store: Any = default_storage
    return store.bucket.Object(store._normalize_name(name))


def for_the_proxy(file: Any, content_type: str) -> str:
    """The address at which the reverse proxy itself finds a stored file; empty where it serves none.

    Of a folder it is the path below ``DIDACTOR_PROXY_MEDIA``; of an object store its address there, signed for a minute, with the type
    that it is to be sent as: a store says what it makes of a name.
    """
    if not settings.PROXY_MEDIA:
        return ""
    if not is_shared():
        return settings.PROXY_MEDIA + quote(str(file.name))
    store: Any = default_storage
    signed = urlsplit(store.url(str(file.name), parameters={"ResponseContentType": content_type}, expire=HOLDS_S))
    return f"{settings.PROXY_MEDIA}{signed.path.lstrip('/')}?{signed.query}"


def stored() -> Iterator[tuple[str, float]]:
    """Every file in the store, with when it was written, seconds since the epoch."""
    if is_shared():
        store: Any = default_storage
        prefix = f"{store.location.strip('/')}/" if store.location.strip("/") else ""
        for found in store.bucket.objects.filter(Prefix=prefix):
            yield found.key.removeprefix(prefix), found.last_modified.timestamp()
        return
    root = Path(settings.MEDIA_ROOT)
    for place, _, names in os.walk(root):
        for name in names:
            path = Path(place) / name
            yield str(path.relative_to(root)), path.stat().st_mtime
