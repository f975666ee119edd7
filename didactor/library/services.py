from __future__ import annotations

import hashlib
from collections.abc import Collection
from contextlib import suppress
from functools import lru_cache
from typing import IO, Any

from django.core.files import File
from django.db import transaction

from didactor.core.errors import PassageError, ScoreError
from didactor.core.instruments import find_instrument
from didactor.core.score.engraving import ACROSS
from didactor.core.score.expected import Expectation, expect, without_notation
from didactor.core.score.model import Part
from didactor.core.score.musicxml import read
from didactor.core.score.open import engrave_isolated, read_isolated
from didactor.core.score.roadmap import bars_between, played_order
from didactor.library.models import Engraving, ModelSound, Passage, Piece, PieceRevision
from didactor.people.models import Person

#: Goes up when drawings made before would differ; older ones stay and are not used.
ENGRAVER = "verovio-6.4/4"
MODEL_TEMPO_SHARES = (1.0, 0.75, 0.5)


def add_piece(*, teacher: Person, upload: IO[bytes], filename: str, title: str = "", composer: str = "") -> Piece:
    """Take the first (mostly the only) piece of a file into the library. Raises ``ScoreError`` as ``add_pieces`` does."""
    return add_pieces(teacher=teacher, upload=upload, filename=filename, title=title, composer=composer)[0]


def add_pieces(*, teacher: Person, upload: IO[bytes], filename: str, title: str = "", composer: str = "") -> list[Piece]:
    """Take all pieces of a file into the library. The original is kept as it came.

    Raises:
        ScoreError: the file cannot be used; nothing is stored.
    """
    found = read_isolated(upload)
    upload.seek(0)
    digest = hashlib.file_digest(upload, "sha256").hexdigest()
    upload.seek(0)
    pieces: list[Piece] = []
    with transaction.atomic():
        original: File[bytes] | str = File(upload, name=filename)
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
    if len(pieces) == 1:
        with suppress(ScoreError):  # its page says so; the notes are read all the same
            engravings_of(revision=pieces[0].current, part=1, bars="")
    return pieces


def add_version(*, piece: Piece, upload: IO[bytes], filename: str) -> PieceRevision:
    """A corrected file of a piece; passages keep the version they were cut from.

    Raises:
        ScoreError: the file cannot be used; nothing is stored.
    """
    if not piece.has_notation:
        raise ScoreError("score.no_versions", "This piece has no notation that a file could correct.")
    head, prepared = read_isolated(upload)[0]
    upload.seek(0)
    digest = hashlib.file_digest(upload, "sha256").hexdigest()
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
    return filename.rsplit(".", 1)[0].replace("_", " ").replace("-", " ").strip().capitalize() or "Untitled"


@lru_cache(maxsize=32)
def read_part(revision_id: int, part: int) -> Part:
    """Revisions never change, so what was read of one may be kept in memory."""
    prepared = bytes(PieceRevision.objects.only("prepared").get(pk=revision_id).prepared)
    parts = read(prepared).parts
    if not 1 <= part <= len(parts):
        raise PassageError("passage.no_such_part", f"There is no part {part} in this score.")
    return parts[part - 1]


def expectation_of(*, revision_id: int, part: int, bars: str, order: str = "") -> Expectation:
    """What should sound when these bars are played; of a printed line only metre and bars are known. Raises ``PassageError``."""
    source = read_part(revision_id, part)
    if not source.notes:
        chosen = bars_between(source, bars or None)
        return without_notation(len(chosen), chosen[0].beats, chosen[0].beat_type)
    return expect(source, bars or None, order or None)


def engravings_of(*, revision: PieceRevision, part: int, bars: str, layouts: Collection[str] = ACROSS) -> dict[str, Engraving]:
    """The drawings of some bars; those not made before are made now, side by side. Raises ``ScoreError``."""
    key = {"revision": revision, "part": part, "bars": bars, "version": ENGRAVER}
    found = {engraving.layout: engraving for engraving in Engraving.objects.filter(**key, layout__in=layouts)}
    missing = [layout for layout in layouts if layout not in found]
    if missing:
        for layout, drawn in engrave_isolated(bytes(revision.prepared), part, bars or None, missing).items():
            made = {"svg": drawn.svg, "geometry": drawn.geometry}
            found[layout], _ = Engraving.objects.get_or_create(**key, layout=layout, defaults=made)
    return found


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


def model_sounds(*, passage: Passage, instrument: str, tempo_qpm: float, count_off: int) -> list[ModelSound]:
    """The models that were asked for with an assignment, the fastest first."""
    tempi = [round(tempo_qpm * share, 2) for share in MODEL_TEMPO_SHARES]
    return list(ModelSound.objects.filter(passage=passage, instrument=instrument, tempo_qpm__in=tempi, count_off=count_off, of_part=0))


def want_model_sounds(*, passage: Passage, instrument: str, tempo_qpm: float, count_off: int) -> None:
    """Ask for the model at the target tempo and slower; what is not rendered yet is put into the queue."""
    from didactor.library.jobs import render_model

    with transaction.atomic():
        for share in MODEL_TEMPO_SHARES:
            sound, made = ModelSound.objects.get_or_create(
                passage=passage, instrument=instrument, tempo_qpm=round(tempo_qpm * share, 2), count_off=count_off
            )
            if made:
                render_model.defer(model_sound_id=sound.pk)


def accompaniment_of(passage: Passage, tempo_qpm: float, count_off: int) -> dict[str, Any] | None:
    """How the accompaniment of a passage at a tempo is kept; None where it has none."""
    root = passage.root
    if not root.accompaniment:
        return None
    instrument = find_instrument(root.revision.part(root.accompaniment)["instrument"]).slug
    return {
        "passage": root,
        "instrument": instrument,
        "tempo_qpm": round(tempo_qpm, 2),
        "count_off": count_off,
        "of_part": root.accompaniment,
        "intro_bars": root.intro_bars,
    }


def want_accompaniment(*, passage: Passage, tempo_qpm: float, count_off: int) -> None:
    """Ask for the accompaniment at the target tempo, where the passage has one."""
    from didactor.library.jobs import render_model

    key = accompaniment_of(passage, tempo_qpm, count_off)
    if key is None:
        return
    with transaction.atomic():
        sound, made = ModelSound.objects.get_or_create(**key)
        if made:
            render_model.defer(model_sound_id=sound.pk)


def accompaniment_expectation(passage: Passage, part: int, intro_bars: int) -> Expectation:
    """What the accompaniment plays: bars of introduction, then the passage in its order. Raises ``PassageError``."""
    bars, order = _with_intro(passage, intro_bars)
    return expectation_of(revision_id=passage.revision_id, part=part, bars=bars, order=order)


def intro_quarters(passage: Passage, intro_bars: int) -> float:
    """Length of the introduction."""
    part = read_part(passage.revision_id, passage.part)
    first = bars_between(part, passage.bars)[0].index
    return sum(bar.length_quarters for bar in part.bars[max(0, first - intro_bars) : first])


def _with_intro(passage: Passage, intro_bars: int) -> tuple[str, str]:
    part = read_part(passage.revision_id, passage.part)
    inside = bars_between(part, passage.bars)
    before = part.bars[max(0, inside[0].index - intro_bars) : inside[0].index]
    if not before:
        return passage.bars, passage.order
    own = " ".join(bar.number for bar, _ in played_order(part, inside, passage.order or None))
    return f"{before[0].number}-{inside[-1].number}", f"{before[0].number}-{before[-1].number} {own}"
