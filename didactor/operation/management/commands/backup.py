from __future__ import annotations

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from didactor.operation.backup import BackupFailed, back_up


class Command(BaseCommand):
    """See didactor/operation/backup.py."""

    help = "Everything that is kept, into a folder; may run while everybody works (docs/operation.md)."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("target", type=Path, help="a folder that is not there yet")
        parser.add_argument("--before", type=Path, help="an older backup beside it: what both have is linked, not copied")
        parser.add_argument("--seal", type=Path, metavar="RECIPIENTS", help="public keys of age: the target is one encrypted file then")

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            done = back_up(options["target"], before=options["before"], recipients=options["seal"])
        except BackupFailed as error:
            raise CommandError(str(error)) from error
        size = f"{done.bytes / 1e9:.2f} GB"
        self.stdout.write(f"{options['target']}: the database and {done.files} files, {size}, {done.linked} of them linked.")
        for name in done.missing:
            self.stdout.write(f"  {name} is named in the database and was not there.")
