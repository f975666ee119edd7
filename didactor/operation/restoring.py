"""A backup into an empty installation: looked through whole before anything is touched, then files, then the database at one stroke.

Files come first: a restore that is broken off leaves the database empty, and is simply begun again.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from django.conf import settings
from django.core.files import File
from django.core.files.storage import default_storage
from django.db import connection
from django.db.migrations.loader import MigrationLoader

from didactor.operation.backup import CHUNK, DUMP, FILES, FORMAT, MANIFEST, BackupFailed, database, run


@dataclass(frozen=True, kw_only=True)
class Restored:
    files: int
    bytes: int
    missing: list[str]


def restore(source: Path, *, identity: Path | None = None) -> Restored:
    """Bring a backup back.

    Args:
        source: the folder, or with ``identity`` (a private key of age) the sealed file.

    Raises:
        BackupFailed: something is here already; it is no backup, not whole, or of a newer version. Nothing was changed then.
    """
    if connection.introspection.table_names():
        raise BackupFailed("There is a database here already. Restore into an empty one: nothing is ever written over.")
    if identity is None:
        return _from(source)
    with _opened(source, identity) as folder:
        return _from(folder)


def _from(folder: Path) -> Restored:
    manifest = _looked_through(folder)
    files: dict[str, list[Any]] = manifest["files"]
    for name, (digest, _) in files.items():
        _bring(name, folder / FILES / name, digest)
    run(
        "pg_restore",
        "--no-owner",
        "--no-privileges",
        "--exit-on-error",
        "--single-transaction",
        f"--dbname={database()}",
        str(folder / DUMP),
    )
    return Restored(files=len(files), bytes=sum(size for _, size in files.values()), missing=manifest["missing"])


def _looked_through(folder: Path) -> dict[str, Any]:
    """Its manifest, when every byte is as it says."""
    try:
        manifest: dict[str, Any] = json.loads((folder / MANIFEST).read_text())
        kept, database_sum, files = manifest["format"], manifest["database"], manifest["files"]
        migrations = manifest["migrations"]
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise BackupFailed(f"{folder} is no backup, or not a whole one: its {MANIFEST} cannot be read.") from error
    if kept != FORMAT:
        raise BackupFailed(f"It is of the format {kept}; this version reads {FORMAT}.")
    ours = MigrationLoader(None, ignore_no_migrations=True).graph
    newer = [app for app, name in migrations.items() if any(n[0] == app for n in ours.nodes) and (app, name) not in ours.nodes]
    if newer:
        raise BackupFailed(f"It is of a newer version of Didactor (tables of {', '.join(newer)}). Install that version first.")
    for name, (digest, size) in {DUMP: database_sum, **{f"{FILES}/{name}": sums for name, sums in files.items()}}.items():
        path = folder / name
        if ".." in Path(name).parts or not path.is_file() or path.stat().st_size != size or _sum(path) != digest:
            raise BackupFailed(f"{name} is missing in it or not as it was. Take another backup; nothing was changed.")
    return manifest


def _sum(path: Path) -> str:
    with path.open("rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()


def _bring(name: str, path: Path, digest: str) -> None:
    """One file into the store, unless a restore that was broken off has brought it already."""
    if default_storage.exists(name):
        with default_storage.open(name) as there:
            if _sum_of(there) == digest:
                return
        raise BackupFailed(f"There is another file {name} here already. Restore into an empty store.")
    with path.open("rb") as source:
        kept = default_storage.save(name, File(source))
    if kept != name:
        default_storage.delete(kept)
        raise BackupFailed(f"The store did not take {name} under its name.")


def _sum_of(source: IO[bytes]) -> str:
    digest = hashlib.sha256()
    while chunk := source.read(CHUNK):
        digest.update(chunk)
    return digest.hexdigest()


@contextmanager
def _opened(source: Path, identity: Path) -> Iterator[Path]:
    """What a sealed backup holds, in a folder for the time being."""
    with tempfile.TemporaryDirectory(dir=settings.STATE, prefix="restore-") as folder:
        try:
            age = subprocess.Popen(["age", "--decrypt", "-i", str(identity), str(source)], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        except FileNotFoundError as error:
            raise BackupFailed("age is not here, which opens a sealed backup. Install Debian’s package age.") from error
        with age:
            assert age.stdout is not None and age.stderr is not None
            try:
                with tarfile.open(fileobj=age.stdout, mode="r|") as tar:
                    for member in tar:
                        _take_out(tar, member, Path(folder))
            except (tarfile.TarError, EOFError) as error:
                words = age.stderr.read().decode(errors="replace").strip()[:200]
                raise BackupFailed(f"{source} cannot be opened with this key, or is not whole. {words}") from error
            if age.wait():
                raise BackupFailed(f"{source} cannot be opened with this key, or is not whole.")
        yield Path(folder)


def _take_out(tar: tarfile.TarFile, member: tarfile.TarInfo, folder: Path) -> None:
    """One file of a sealed backup; nothing else is in one."""
    name = Path(member.name)
    source = tar.extractfile(member) if member.isfile() else None
    if source is None or name.is_absolute() or ".." in name.parts:
        raise BackupFailed(f"{member.name} is no part of a backup. Nothing was changed.")
    path = folder / name
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    with source, path.open("xb") as out:
        shutil.copyfileobj(source, out, CHUNK)
