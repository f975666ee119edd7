"""A backup taken while everybody works comes back whole into an empty installation, or not at all."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
from pathlib import Path

from django.conf import settings
from django.core.files.storage import default_storage
from django.db import connection
from django.test import TransactionTestCase, override_settings

from didactor.operation.backup import BackupFailed, back_up, program
from didactor.operation.restoring import restore
from didactor.takes.models import Take
from tests import scene as scenes

EMPTY = "didactor_empty_for_restore"


class BackupTests(scenes.OwnFolders, TransactionTestCase):
    def setUp(self) -> None:
        self.scene = scenes.build(listen_first=False)
        self.take = scenes.recorded(self.scene)
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.state = self.folder / "state"
        self.state.mkdir()
        override = override_settings(STATE=self.state)
        override.enable()
        self.addCleanup(override.disable)
        self.kept = self.folder / "kept"

    def empty_database(self) -> None:
        with connection.cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {EMPTY} WITH (FORCE)")
            cursor.execute(f"CREATE DATABASE {EMPTY}")
        self.addCleanup(self.drop)

    def drop(self) -> None:
        with connection.cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {EMPTY} WITH (FORCE)")

    def elsewhere(self, *command: str) -> subprocess.CompletedProcess[str]:
        """A command on another machine: its own database, folders and process."""
        there = self.folder / "there"
        there.mkdir(exist_ok=True)
        own = settings.DATABASES["default"]
        names = {"DIDACTOR_DB_HOST": own["HOST"], "DIDACTOR_DB_PORT": own["PORT"], "DIDACTOR_DB_PASSWORD": own["PASSWORD"]}
        environment = {**os.environ, **{k: str(v) for k, v in names.items()}, "DIDACTOR_DB_NAME": EMPTY, "DIDACTOR_STATE": str(there)}
        environment.pop("DIDACTOR_TESTING", None)
        manage = [sys.executable, str(settings.ROOT / "manage.py"), *command]
        return subprocess.run(manage, env=environment, capture_output=True, text=True, check=False)

    def rows(self, backup: Path) -> list[str]:
        """Every row of a backup's database, as text."""
        text = subprocess.run(
            [program("pg_restore"), "--data-only", "--file=-", str(backup / "database.dump")], capture_output=True, text=True, check=True
        ).stdout
        return sorted(line for line in text.splitlines() if not line.startswith(("--", "\\")))

    def test_every_row_and_every_byte_comes_back_on_another_machine(self):
        done = back_up(self.kept)
        self.assertGreaterEqual(done.files, 3)
        self.assertEqual((done.linked, done.missing), (0, []))
        self.empty_database()
        came = self.elsewhere("restore", str(self.kept))
        self.assertEqual(came.returncode, 0, came.stderr)
        again = self.elsewhere("backup", str(self.folder / "again"))
        self.assertEqual(again.returncode, 0, again.stderr)
        first, second = (json.loads((path / "manifest.json").read_text()) for path in (self.kept, self.folder / "again"))
        self.assertEqual(first["files"], second["files"])
        self.assertEqual(first["migrations"], second["migrations"])
        self.assertEqual(self.rows(self.kept), self.rows(self.folder / "again"))
        self.assertIn(str(self.take.sha256), "\n".join(self.rows(self.kept)))
        # A second time there is something there.
        refused = self.elsewhere("restore", str(self.kept))
        self.assertIn("nothing is ever written over", refused.stderr)

    def test_a_sealed_one_is_one_file_that_only_its_key_opens(self):
        key, other = self.folder / "key", self.folder / "other"
        for path in (key, other):
            subprocess.run(["age-keygen", "-o", str(path)], check=True, capture_output=True)
        public = subprocess.run(["age-keygen", "-y", str(key)], check=True, capture_output=True, text=True).stdout
        (self.folder / "recipients").write_text(public)
        back_up(self.kept, recipients=self.folder / "recipients")
        self.assertTrue(self.kept.is_file())
        self.assertEqual(self.kept.stat().st_mode & 0o077, 0)
        self.assertNotIn(b"database.dump", self.kept.read_bytes())
        self.empty_database()
        refused = self.elsewhere("restore", str(self.kept), "--key", str(other))
        self.assertIn("cannot be opened with this key", refused.stderr)
        half = self.folder / "half"
        half.write_bytes(self.kept.read_bytes()[: self.kept.stat().st_size // 2])
        refused = self.elsewhere("restore", str(half), "--key", str(key))
        self.assertIn("not whole", refused.stderr)
        for name, kind in (("../out", tarfile.REGTYPE), ("/tmp/out", tarfile.REGTYPE), ("link", tarfile.SYMTYPE)):
            crafted = self.folder / "crafted.tar"
            with tarfile.open(crafted, "w") as tar:
                info = tarfile.TarInfo(name)
                info.type, info.linkname = kind, "/etc/passwd"
                tar.addfile(info)
            sealed = self.folder / "crafted.age"
            subprocess.run(["age", "-R", str(self.folder / "recipients"), "-o", str(sealed), str(crafted)], check=True)
            refused = self.elsewhere("restore", str(sealed), "--key", str(key))
            self.assertIn("is no part of a backup", refused.stderr)
        came = self.elsewhere("restore", str(self.kept), "--key", str(key))
        self.assertEqual(came.returncode, 0, came.stderr)
        there = self.folder / "there" / "media" / self.take.original.name
        self.assertEqual(there.read_bytes(), self.take.original.read())

    def test_what_is_not_as_it_was_is_refused_before_anything_is_touched(self):
        back_up(self.kept)
        self.empty_database()
        name = next(iter(json.loads((self.kept / "manifest.json").read_text())["files"]))
        body = (self.kept / "files" / name).read_bytes()
        manifest = (self.kept / "manifest.json").read_text()
        newer = json.loads(manifest)
        newer["migrations"]["takes"] = "9999_from_the_future"
        for path, changed, words in (
            (self.kept / "files" / name, body[:-1] + bytes([body[-1] ^ 1]), "not as it was"),
            (self.kept / "files" / name, body[:-1], "not as it was"),
            (self.kept / "manifest.json", manifest[:-30].encode(), "no backup, or not a whole one"),
            (self.kept / "manifest.json", manifest.replace("didactor-backup-1", "didactor-backup-2").encode(), "this version reads"),
            (self.kept / "manifest.json", json.dumps(newer).encode(), "newer version of Didactor (tables of takes)"),
            (self.kept / "manifest.json", manifest.replace(name, f"../../{name}").encode(), "not as it was"),
        ):
            kept = path.read_bytes()
            path.write_bytes(changed)
            refused = self.elsewhere("restore", str(self.kept))
            self.assertEqual(refused.returncode, 1)
            self.assertIn(words, refused.stderr)
            self.assertFalse((self.folder / "there" / "media").exists(), words)
            path.write_bytes(kept)
        # A restore that was broken off after its files is simply begun again.
        begun = self.folder / "there" / "media" / name
        begun.parent.mkdir(parents=True)
        begun.write_bytes(body)
        came = self.elsewhere("restore", str(self.kept))
        self.assertEqual(came.returncode, 0, came.stderr)

    def test_the_next_one_links_what_is_there_and_tells_what_is_not(self):
        back_up(self.kept)
        gone = self.take.playback.name
        default_storage.delete(gone)
        scenes.recorded_by(scenes.another(self.scene, "Tove"), scenes.wav(seed=9))
        done = back_up(self.folder / "next", before=self.kept)
        self.assertEqual(done.missing, [gone])
        self.assertEqual((done.files - done.linked, Take.objects.count()), (1, 2))
        own = self.folder / "next" / "files" / self.take.original.name
        self.assertTrue(own.samefile(self.kept / "files" / self.take.original.name))
        self.assertEqual(own.parent.stat().st_mode & 0o077, 0)

    def test_nothing_is_written_over_and_nothing_half_is_left(self):
        self.kept.mkdir()
        with self.assertRaisesMessage(BackupFailed, "is there already"):
            back_up(self.kept)
        with self.assertRaisesMessage(BackupFailed, "is no backup"):
            back_up(self.folder / "new", before=self.kept)
        with self.assertRaisesMessage(BackupFailed, "age failed"):
            back_up(self.folder / "sealed", recipients=self.folder / "no-such-file")
        self.assertEqual(sorted(path.name for path in self.folder.iterdir()), ["kept", "state"])
        self.assertEqual(list(self.state.iterdir()), [])
        with self.assertRaisesMessage(BackupFailed, "nothing is ever written over"):
            restore(self.kept)
