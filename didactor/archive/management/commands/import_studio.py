from __future__ import annotations

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from didactor.archive.reading import ArchiveRefused, import_studio


class Command(BaseCommand):
    help = "A studio's archive into an empty installation: all of it, or nothing."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            with options["file"].open("rb") as source:
                counts = import_studio(source)
        except OSError as error:
            raise CommandError(f"{options['file']} cannot be read: {error.strerror}") from error
        except ArchiveRefused as error:
            raise CommandError(str(error)) from error
        for name, number in counts.items():
            if number:
                self.stdout.write(f"{number:8} {name}")
