"""Many files at once: kept first, then read by the queue, with a report for each."""

from __future__ import annotations

from collections.abc import Iterable

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction

from didactor.library.jobs import read_file
from didactor.library.models import Import, ImportedFile
from didactor.people.models import Person

MOST_FILES = 200


@transaction.atomic
def begin_import(*, teacher: Person, files: Iterable[UploadedFile]) -> Import:
    """Keep the files and put each in the queue."""
    batch = Import.objects.create(studio=teacher.studio, created_by=teacher)
    for file in files:
        kept = ImportedFile.objects.create(batch=batch, filename=(file.name or "score")[:255], source=file)
        read_file.defer(imported_file_id=kept.pk)
    return batch
