"""A backup of the whole installation: the database as ``pg_dump`` writes it, every file that a row of it names, and what both hash to.

A backup is a folder with ``database.dump``, ``files/`` and ``manifest.json``; sealed it is the same as a stream of tar, encrypted by age.
It may be made while everybody works: the dump and the list of files are of one moment. Files never change under their names, so that what
an older backup beside it has need not be copied again.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, Protocol

from django.conf import settings
from django.core.files.storage import default_storage
from django.db import connection, transaction
from django.db.migrations.loader import MigrationLoader
from django.utils import timezone

from didactor.takes.upkeep import named_files

FORMAT = "didactor-backup-1"
DUMP, MANIFEST, FILES = "database.dump", "manifest.json", "files"
CHUNK = 1 << 20


class BackupFailed(Exception):
    """Says what went wrong and what to do."""


@dataclass(frozen=True, kw_only=True)
class BackedUp:
    """``missing``: files that a row names and the store does not have (somebody erased them meanwhile, or they are lost)."""

    files: int
    bytes: int
    linked: int
    missing: list[str]


class _Target(Protocol):
    def add(self, name: str, source: IO[bytes], size: int) -> str:
        """Write one file; returns its SHA-256."""


class _Folder:
    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def add(self, name: str, source: IO[bytes], size: int) -> str:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with open(path, "xb", opener=_for_us_alone) as out:
            digest = _copied(source, out.write)
            out.flush()
            os.fsync(out.fileno())
        return digest


class _Stream:
    def __init__(self, out: IO[bytes]) -> None:
        self.tar = tarfile.open(fileobj=out, mode="w|")  # noqa: SIM115 - closed by ``sealed``

    def add(self, name: str, source: IO[bytes], size: int) -> str:
        digest = hashlib.sha256()
        info = tarfile.TarInfo(name)
        info.size, info.mode = size, 0o600
        self.tar.addfile(info, _Hashed(source, digest))  # type: ignore[arg-type]
        return digest.hexdigest()


class _Hashed(io.RawIOBase):
    """What is read through it is hashed."""

    def __init__(self, source: IO[bytes], digest: Any) -> None:
        self.source, self.digest = source, digest

    def read(self, size: int = -1) -> bytes:
        chunk = self.source.read(size)
        self.digest.update(chunk)
        return chunk


def _copied(source: IO[bytes], write: Callable[[bytes], Any]) -> str:
    digest = hashlib.sha256()
    while chunk := source.read(CHUNK):
        digest.update(chunk)
        write(chunk)
    return digest.hexdigest()


def _for_us_alone(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)


def back_up(target: Path, *, before: Path | None = None, recipients: Path | None = None) -> BackedUp:
    """Write a backup; a file or folder under the target's name is whole.

    Args:
        target: a folder that is not there yet; with ``recipients`` a file.
        before: an older backup (a folder) on the same disk: what both have is linked, not copied. Not for sealed ones.
        recipients: public keys of age, one a line, by whose private ones it can be opened again.

    Raises:
        BackupFailed: there is something there already, a program is missing or failed, the disk is full.
    """
    if target.exists():
        raise BackupFailed(f"{target} is there already; nothing was written over. Choose another name.")
    partial = target.with_name(target.name + ".part")
    try:
        if recipients is None:
            partial.mkdir(parents=True, mode=0o700)
            done = _written(_Folder(partial), _of_before(before), lambda name: os.link(_inside(before, name), _placed(partial, name)))
        else:
            with open(partial, "xb", opener=_for_us_alone) as out, _sealed(out, recipients) as stream:
                done = _written(stream, {}, None)
        partial.rename(target)
    except OSError as error:
        _away(partial)
        raise BackupFailed(f"{error.strerror or error}: {error.filename or target}. Nothing was kept.") from error
    except BaseException:
        _away(partial)
        raise
    return done


def _away(partial: Path) -> None:
    shutil.rmtree(partial, ignore_errors=True) if partial.is_dir() else partial.unlink(missing_ok=True)


def _inside(before: Path | None, name: str) -> Path:
    return (before or Path()) / FILES / name


def _placed(partial: Path, name: str) -> Path:
    path = partial / FILES / name
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    return path


def _of_before(before: Path | None) -> dict[str, list[Any]]:
    """Files of an older backup: name to hash and size."""
    if before is None:
        return {}
    try:
        manifest = json.loads((before / MANIFEST).read_text())
    except (OSError, ValueError) as error:
        raise BackupFailed(f"{before} is no backup: it has no {MANIFEST} that can be read.") from error
    found: dict[str, list[Any]] = manifest["files"]
    return found


def _written(target: _Target, older: dict[str, list[Any]], link: Callable[[str], None] | None) -> BackedUp:
    with tempfile.TemporaryDirectory(dir=settings.STATE, prefix="backup-") as folder:
        dump = Path(folder) / DUMP
        names = _dumped(dump)
        with dump.open("rb") as source:
            database = [target.add(DUMP, source, dump.stat().st_size), dump.stat().st_size]
    files: dict[str, list[Any]] = {}
    missing: list[str] = []
    linked = 0
    for name in names:
        try:
            size = default_storage.size(name)
            if link is not None and older.get(name, [None, None])[1] == size:
                link(name)
                files[name], linked = older[name], linked + 1
                continue
            with default_storage.open(name) as source:
                files[name] = [target.add(f"{FILES}/{name}", source, size), size]
        except FileNotFoundError:
            missing.append(name)
    manifest = {
        "format": FORMAT,
        "made_at": timezone.now().isoformat(),
        "migrations": applied_migrations(),
        "database": database,
        "files": files,
        "missing": missing,
    }
    body = json.dumps(manifest, indent=1, ensure_ascii=False).encode()
    target.add(MANIFEST, io.BytesIO(body), len(body))
    return BackedUp(files=len(files), bytes=sum(size for _, size in files.values()), linked=linked, missing=missing)


def _dumped(dump: Path) -> list[str]:
    """The database into a file; returns the names of all files that its rows name at that very moment."""
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
        cursor.execute("SELECT pg_export_snapshot()")
        [snapshot] = cursor.fetchone()
        run("pg_dump", "--format=custom", "--no-owner", "--no-privileges", f"--snapshot={snapshot}", f"--file={dump}", database())
        return sorted(set(named_files()))


def applied_migrations() -> dict[str, str]:
    """By app, the last of its migrations that this database has had."""
    loader = MigrationLoader(connection)
    return {app: max(name for of, name in loader.applied_migrations if of == app) for app, _ in sorted(loader.applied_migrations)}


def database() -> str:
    """The database in PostgreSQL's words; its password goes by the environment."""
    config = settings.DATABASES["default"]
    return f"host={config['HOST']} port={config['PORT']} user={config['USER']} dbname={config['NAME']}"


def program(name: str) -> str:
    """Where one of PostgreSQL's programs lies, the newest one; by its name alone where it is on the path."""
    versions = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), key=lambda path: int(path.parts[-3]))
    return str(versions[-1]) if versions else name


def run(name: str, *arguments: str) -> None:
    """One of PostgreSQL's programs. Raises ``BackupFailed`` with its own last words."""
    environment = {**os.environ, "PGPASSWORD": str(settings.DATABASES["default"]["PASSWORD"])}
    try:
        done = subprocess.run([program(name), *arguments], env=environment, capture_output=True, text=True, check=False)
    except FileNotFoundError as error:
        raise BackupFailed(f"{name} is not here. Install Debian’s postgresql-client.") from error
    if done.returncode:
        last = done.stderr.strip().splitlines()
        raise BackupFailed(f"{name} failed: {last[-1] if last else done.returncode}")


@contextmanager
def _sealed(out: IO[bytes], recipients: Path) -> Iterator[_Stream]:
    """A stream of tar whose bytes go through age."""
    try:
        age = subprocess.Popen(["age", "--encrypt", "-R", str(recipients)], stdin=subprocess.PIPE, stdout=out, stderr=subprocess.PIPE)
    except FileNotFoundError as error:
        raise BackupFailed("age is not here, which seals a backup. Install Debian’s package age.") from error
    assert age.stdin is not None and age.stderr is not None
    stream = _Stream(age.stdin)
    with age:
        try:
            yield stream
            stream.tar.close()
            age.stdin.close()
        except BrokenPipeError as error:
            raise BackupFailed(_last_words(age)) from error
        except BaseException:
            age.kill()
            raise
        finally:
            # Closed, however it ended: else it writes once more when it is thrown away.
            with suppress(OSError, ValueError):
                stream.tar.close()
        if age.wait():
            raise BackupFailed(_last_words(age))
    out.flush()
    os.fsync(out.fileno())


def _last_words(age: subprocess.Popen[bytes]) -> str:
    said = age.stderr.read().decode(errors="replace").strip() if age.stderr else ""
    return f"age failed: {said[:200]}"
