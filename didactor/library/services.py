from __future__ import annotations

import hashlib
from contextlib import suppress
from typing import IO, Any

from django.core.files import File
from django.db import transaction

from didactor.core.errors import BusyError, CoreError, ScoreError
from didactor.core.score.open import read_isolated
from didactor.core.words import worded
from didactor.library.models import ImportedFile, ImportedFileState, Passage, Piece, PieceRevision
from didactor.library.notation import engravings_of, expectation_of
from didactor.people.models import Person


def add_piece(*, teacher: Person, upload: IO[bytes], filename: str, title: str = "", composer: str = "") -> Piece:
    """Take the first (mostly the only) piece of a file into the library. Raises ``ScoreError`` as ``add_pieces`` does."""
    return add_pieces(teacher=teacher, upload=upload, filename=filename, title=title, composer=composer)[0]


def add_pieces(*, teacher: Person, upload: IO[bytes], filename: str, title: str = "", composer: str = "") -> list[Piece]:
    """Take all pieces of a file into the library. The original is kept as it came.

    Raises:
        ScoreError: the file cannot be used; nothing is stored.
    """
    with transaction.atomic():
        pieces = _keep(teacher, read_isolated(upload), upload, filename, title, composer)
    draw_one(pieces)
    return pieces


def _keep(
    teacher: Person, found: list[tuple[dict[str, Any], bytes]], upload: IO[bytes], filename: str, title: str = "", composer: str = ""
) -> list[Piece]:
    upload.seek(0)
    digest = hashlib.file_digest(upload, "sha256").hexdigest()  # type: ignore[arg-type]
    upload.seek(0)
    pieces: list[Piece] = []
    original: Any = File(upload, name=filename)
    for head, prepared in found:
        piece = Piece.objects.create(
            studio=teacher.studio,
            title=(title.strip() or head["title"] or _title_of(filename))[:200],
            composer=(composer.strip() or head["composer"])[:200],
            created_by=teacher,
        )
        revision = PieceRevision.objects.create(
            piece=piece, original=original, filename=filename[:255], sha256=digest, prepared=prepared, reading=head
        )
        original = revision.original.name  # several tunes of one file share it
        pieces.append(piece)
    return pieces


def draw_one(pieces: list[Piece]) -> None:
    """Of one piece the first page is opened at once."""
    if len(pieces) == 1:
        with suppress(ScoreError, BusyError):  # its page says so, or draws them later; the notes are read all the same
            engravings_of(revision=pieces[0].current, part=1, bars="")


def add_version(*, piece: Piece, upload: IO[bytes], filename: str) -> PieceRevision:
    """A corrected file of a piece; passages keep the version they were cut from.

    Raises:
        ScoreError: the file cannot be used; nothing is stored.
    """
    if not piece.has_notation:
        raise ScoreError("score.no_versions", worded("This piece has no notation that a file could correct."))
    head, prepared = read_isolated(upload)[0]
    upload.seek(0)
    digest = hashlib.file_digest(upload, "sha256").hexdigest()  # type: ignore[arg-type]
    upload.seek(0)
    with transaction.atomic():
        number = Piece.objects.select_for_update().get(pk=piece.pk).current.number + 1
        return PieceRevision.objects.create(
            piece=piece,
            number=number,
            original=File(upload, name=filename),
            filename=filename[:255],
            sha256=digest,
            prepared=prepared,
            reading=head,
        )


def _title_of(filename: str) -> str:
    return filename.rsplit(".", 1)[0].replace("_", " ").replace("-", " ").strip().capitalize() or worded("Untitled")


def all_bars(revision: PieceRevision, part: int) -> str:
    """The whole of a part, as a passage's bars; empty for a part that is not there."""
    found = next((p for p in revision.parts if p["index"] == part), None)
    numbers = [bar["number"] for bar in found["bars"]] if found else []
    return f"{numbers[0]}-{numbers[-1]}" if numbers else ""


def cut_passage(*, teacher: Person, revision: PieceRevision, part: int, bars: str, order: str = "", title: str = "") -> Passage:
    """A passage of a piece, engraved at once so that its page opens quickly.

    Raises:
        PassageError: bars or order that do not exist, or bars without a note.
    """
    bars = bars.replace("–", "-").replace(" ", "")
    expectation = expectation_of(revision_id=revision.pk, part=part, bars=bars, order=order)
    engravings_of(revision=revision, part=part, bars=bars)
    return Passage.objects.create(
        revision=revision,
        part=part,
        bars=bars,
        order=order.strip(),
        title=title.strip(),
        note_count=len(expectation.notes),
        created_by=teacher,
    )


def read_imported(kept: ImportedFile) -> None:
    """Read one file; the second time finds it done, and what was left after it. What cannot be read says why.

    Raises ``BusyError``: it waits, and is read later.
    """
    if kept.state == ImportedFileState.WAITING:
        try:
            with kept.source.open("rb") as source:
                found = read_isolated(source.file)
                pieces = _keep_imported(kept, found, source.file)
        except BusyError:
            raise
        except CoreError as error:
            kept.state, kept.trouble = ImportedFileState.REFUSED, error.message
            kept.save(update_fields=["state", "trouble"])
            return
        draw_one(pieces)
    if kept.state == ImportedFileState.READ and kept.source:
        # The pieces have their own copy of the original now.
        kept.source.delete(save=True)


@transaction.atomic
def _keep_imported(kept: ImportedFile, found: list[tuple[dict[str, Any], bytes]], source: IO[bytes]) -> list[Piece]:
    """The pieces with the state that says so, once: of two that read the same file the second finds the first one's."""
    state = ImportedFile.objects.select_for_update().values_list("state", flat=True).get(pk=kept.pk)
    kept.state = state
    if state != ImportedFileState.WAITING:
        return []
    pieces = _keep(kept.batch.created_by, found, source, kept.filename)
    kept.pieces.set(pieces)
    kept.state = ImportedFileState.READ
    kept.save(update_fields=["state"])
    return pieces
