from __future__ import annotations

from pathlib import Path
from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError, CommandParser

from didactor.operation.backup import BackupFailed
from didactor.operation.restoring import restore


class Command(BaseCommand):
    """See didactor/operation/restoring.py. Tables of an older version are brought up to this one afterwards."""

    help = "A backup into an empty installation."
    requires_system_checks = ()  # type: ignore[assignment]

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("source", type=Path, help="the folder, or the sealed file")
        parser.add_argument("--key", type=Path, help="a private key of age, for a sealed one")

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            done = restore(options["source"], identity=options["key"])
        except BackupFailed as error:
            raise CommandError(str(error)) from error
        call_command("migrate", interactive=False, verbosity=0)
        self.stdout.write(f"The database and {done.files} files, {done.bytes / 1e9:.2f} GB, are back.")
