"""Recordings to listen to: a piece without notation, whose music is a sound or a video of the teacher's own."""

from __future__ import annotations

import tempfile

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction

from didactor.library.desk import add_reference
from didactor.library.models import Kind, Passage
from didactor.library.printed import Line, empty_bars
from didactor.library.services import add_piece, cut_passage
from didactor.people.models import Person


@transaction.atomic
def add_recording(*, teacher: Person, title: str, upload: UploadedFile) -> Passage:
    """A recording as a piece with one passage. Raises ``AudioError`` for what is none; nothing is stored then."""
    line = Line(book=title, page="", number="", bars=1, beats=4, beat_type=4, tempo_qpm=None)
    with tempfile.TemporaryFile() as source:
        source.write(empty_bars(line))
        source.flush()
        piece = add_piece(teacher=teacher, upload=source, filename="recording.musicxml", title=title)
    piece.kind, piece.made_from = Kind.LISTENING, {"kind": "recording"}
    piece.save(update_fields=["kind", "made_from"])
    passage = cut_passage(teacher=teacher, revision=piece.current, part=1, bars="1-1", title=title)
    add_reference(passage=passage, teacher=teacher, upload=upload, title="")
    return passage
