"""Lines of printed books: every student owns the book, no file of the notes exists. Bars, metre and tempo are all that is known."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from typing import Any

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction

from didactor.core.errors import ScoreError
from didactor.core.score.expected import without_notation
from didactor.core.score.generate.layout import bar_length
from didactor.core.score.write.draft import DraftBar, DraftNote, DraftPart, write_draft
from didactor.core.words import worded
from didactor.library.models import Passage
from didactor.library.services import add_piece, cut_passage
from didactor.people.models import Person

MOST_PHOTO_BYTES = 12 * 1024 * 1024
_PICTURES = {b"\xff\xd8\xff": "image/jpeg", b"\x89PNG\r\n\x1a\n": "image/png", b"RIFF": "image/webp"}


@dataclass(frozen=True, kw_only=True)
class Line:
    """A line of a book, as the teacher tells it. ``tempo_qpm`` in quarters a minute."""

    book: str
    page: str
    number: str
    bars: int
    beats: int
    beat_type: int
    tempo_qpm: float | None

    @property
    def title(self) -> str:
        places = [self.book]
        if self.page:
            places.append(worded("p. {page}", page=self.page))
        if self.number:
            places.append(worded("no. {number}", number=self.number))
        return ", ".join(places)


@transaction.atomic
def add_line(*, teacher: Person, line: Line, photo: UploadedFile | None) -> Passage:
    """A printed line as a piece with one passage, all of it.

    Raises:
        ScoreError: a photo that is none.
        PassageError: a metre or number of bars that makes no sense.
    """
    without_notation(line.bars, line.beats, line.beat_type)
    if photo is not None:
        kind_of_picture(photo)
    with tempfile.TemporaryFile() as source:
        source.write(empty_bars(line))
        source.flush()
        piece = add_piece(teacher=teacher, upload=source, filename="line.musicxml", title=line.title)
    piece.book, piece.book_page, piece.book_number, piece.kind = line.book, line.page, line.number, "technique"
    if photo is not None:
        photo.seek(0)
        piece.photo = photo
    piece.save()
    return cut_passage(teacher=teacher, revision=piece.current, part=1, bars=f"1-{line.bars}", title=line.title)


def kind_of_picture(photo: Any) -> str:
    """Content type of a photo by its first bytes. Raises ``ScoreError`` for anything else, or one that is too large."""
    if photo.size > MOST_PHOTO_BYTES:
        raise ScoreError("photo.too_large", worded("The photo is larger than 12 MB. Take it again at a lower resolution."))
    photo.seek(0)
    head = photo.read(16)
    found = next((kind for magic, kind in _PICTURES.items() if head.startswith(magic)), None)
    if found is None or (found == "image/webp" and head[8:12] != b"WEBP"):
        raise ScoreError("photo.not_one", worded("This is no photo that browsers show. Use JPEG, PNG or WebP."))
    return found


def empty_bars(line: Line) -> bytes:
    """MusicXML of bars with nothing in them: places to pin to."""
    length = bar_length(line.beats, line.beat_type)
    bars = [DraftBar(notes=[DraftNote(nominal=length, hidden=True)]) for _ in range(line.bars)]
    bars[0].metre, bars[0].fifths, bars[0].tempo_qpm = (line.beats, line.beat_type, ""), 0, line.tempo_qpm
    return write_draft([DraftPart(name=line.book, bars=bars, clef="percussion")], line.title)
