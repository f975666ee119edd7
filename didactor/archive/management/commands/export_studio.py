from __future__ import annotations

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from didactor.archive.writing import export_studio
from didactor.people.models import Studio


class Command(BaseCommand):
    """Writes beside the target first: a file under the target's name is whole."""

    help = "A studio with all its recordings into one file (docs/formats.md)."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--studio", help="its name, where there are several")

    def handle(self, *args: Any, **options: Any) -> None:
        found = Studio.objects.filter(name=options["studio"]) if options["studio"] else Studio.objects.all()
        if found.count() != 1:
            names = ", ".join(Studio.objects.values_list("name", flat=True)) or "none"
            raise CommandError(f"Name one studio with --studio. There are: {names}")
        target: Path = options["file"]
        if target.exists():
            raise CommandError(f"{target} is there already; nothing was written over.")
        partial = target.with_name(target.name + ".part")
        try:
            with partial.open("xb") as out:
                counts = export_studio(found.get(), out)
            partial.rename(target)
        except BaseException:
            partial.unlink(missing_ok=True)
            raise
        for name, number in counts.items():
            if number:
                self.stdout.write(f"{number:8} {name}")
