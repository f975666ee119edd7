"""Many files at once: kept first, then read by the queue, with a report for each."""

from __future__ import annotations

from collections.abc import Iterable

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction

from didactor.core.errors import CoreError
from didactor.library.models import Import, ImportedFile, ImportedFileState
from didactor.library.services import add_pieces
from didactor.people.models import Person

MOST_FILES = 200


@transaction.atomic
def begin_import(*, teacher: Person, files: Iterable[UploadedFile]) -> Import:
    """Keep the files and put each in the queue."""
    from didactor.library.jobs import read_file

    batch = Import.objects.create(studio=teacher.studio, created_by=teacher)
    for file in files:
        kept = ImportedFile.objects.create(batch=batch, filename=(file.name or "score")[:255], source=file)
        read_file.defer(imported_file_id=kept.pk)
    return batch


def read_imported(kept: ImportedFile) -> None:
    """Read one file; the second time finds it done. What cannot be read says why."""
    if kept.state != ImportedFileState.WAITING:
        return
    try:
        with kept.source.open("rb") as source:
            pieces = add_pieces(teacher=kept.batch.created_by, upload=source.file, filename=kept.filename)
    except CoreError as error:
        kept.state, kept.trouble = ImportedFileState.REFUSED, error.message[:500]
        kept.save(update_fields=["state", "trouble"])
        return
    with transaction.atomic():
        kept.pieces.set(pieces)
        kept.state = ImportedFileState.READ
        kept.save(update_fields=["state"])
    # The pieces have their own copy of the original now.
    kept.source.delete(save=True)
