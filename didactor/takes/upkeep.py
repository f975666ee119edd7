"""What is put in order by night."""

from __future__ import annotations

import logging
import os
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

from django.apps import apps
from django.conf import settings
from django.core.files.storage import default_storage
from django.db.models import FileField
from django.utils import timezone

from didactor.takes import pieces
from didactor.takes.models import Upload
from didactor.web.store import UPLOADS, stored

logger = logging.getLogger(__name__)
#: A file younger than this may belong to a row that is just being written, or to a backup that is just being made.
YOUNG_S = 3 * 24 * 3600.0


def discard_stale_uploads(*, older_than_days: int = 7) -> int:
    """Remove uploads that were begun and never finished. Returns how many."""
    stale = Upload.objects.filter(take=None, created_at__lt=timezone.now() - timedelta(days=older_than_days))
    count = 0
    for upload in stale:
        pieces.discard(upload)
        upload.delete()
        count += 1
    return count


def sweep_files(*, older_than_s: float = YOUNG_S) -> tuple[int, int]:
    """Remove files that no row names, and tell of rows whose file is gone.

    Whatever was broken off between a file and its row (a take deleted while it was opened, a full disk) is put in order so.

    Returns:
        how many files were removed, and how many are missing.
    """
    named = set(named_files())
    removed, found = 0, set()
    begun = {str(pk) for pk in Upload.objects.values_list("pk", flat=True)}
    for name, written_at in stored():
        found.add(name)
        on_its_way = name.startswith(UPLOADS) and name.split("/")[1] in begun
        if name not in named and not on_its_way and time.time() - written_at > older_than_s:
            default_storage.delete(name)
            removed += 1
    for path in _files(Path(settings.UPLOAD_ROOT)):
        if path.name not in begun and time.time() - path.stat().st_mtime > older_than_s:
            path.unlink(missing_ok=True)
            removed += 1
    missing = named - found
    for name in sorted(missing)[:20]:
        logger.error("the file %s is gone", name)
    return removed, len(missing)


def _files(folder: Path) -> Iterator[Path]:
    for place, _, names in os.walk(folder):
        yield from (Path(place) / name for name in names)


def named_files() -> Iterator[str]:
    """Every file that a row of any table names."""
    for model in apps.get_models():
        for field in model._meta.get_fields():
            if isinstance(field, FileField):
                yield from model._default_manager.exclude(**{field.name: ""}).values_list(field.name, flat=True).iterator()
