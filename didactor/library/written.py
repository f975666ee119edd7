"""What cannot be imported is typed: melodies and rhythm lines as ABC, charts as ChordPro, engraved while they are written."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import IO

from didactor.core.errors import ScoreError
from didactor.core.score.open import engrave_isolated, read_isolated
from didactor.core.words import _, read, worded
from didactor.library.models import Passage
from didactor.library.services import add_piece, cut_passage
from didactor.people.models import Person

MOST_LETTERS = 20_000
#: What the page begins with: music of our own, one line of each kind.
BEGINNINGS = {
    "melody": "X:1\nT:At the slipway\nM:3/4\nL:1/8\nK:G\nD2 | G2 A2 B2 | d3 B A2 | G2 E2 D2 | G4 |]\n",
    "rhythm": "X:1\nT:Four bars to clap\nM:4/4\nL:1/8\nK:C clef=perc\nB2 B2 BB B2 | B4 BB B2 | z2 B2 BB B2 | B4 B4 |]\n",
    "chart": "{title: Ferry home}\n{tempo: 84}\n[C]Slow the evening [G]comes\n[Am]over the [F]sound\n",
}
FILENAMES = {"melody": "melody.abc", "rhythm": "rhythm.abc", "chart": "chart.chordpro"}
TITLES = {"melody": _("A melody (ABC)"), "rhythm": _("A rhythm line (ABC)"), "chart": _("A chord chart (ChordPro)")}


@dataclass(frozen=True, kw_only=True)
class Preview:
    heading: str
    drawings: dict[str, str]
    problems: tuple[str, ...]


def preview(text: str) -> Preview:
    """The engraving of what is typed so far, and what in it was not understood. Raises ``ScoreError``."""
    with _source(text) as source:
        head, prepared = read_isolated(source)[0]
    drawn = engrave_isolated(prepared, 1, None)
    drawings = {layout: engraving.svg for layout, engraving in drawn.items()}
    return Preview(
        heading=head["title"] or worded("Untitled"),
        drawings=drawings,
        problems=tuple(read(p.get("text_made_of", p["text"])) for p in head["problems"]),
    )


def keep(*, teacher: Person, kind: str, text: str) -> Passage:
    """What was typed as a piece with one passage, all of it. Raises ``CoreError``; nothing is stored then."""
    with _source(text) as source:
        piece = add_piece(teacher=teacher, upload=source, filename=FILENAMES[kind])
    bars = piece.current.parts[0]["bars"]
    return cut_passage(teacher=teacher, revision=piece.current, part=1, bars=f"{bars[0]['number']}-{bars[-1]['number']}", title=piece.title)


@contextmanager
def _source(text: str) -> Iterator[IO[bytes]]:
    if not text.strip():
        raise ScoreError("score.empty", worded("Nothing is written yet."))
    if len(text) > MOST_LETTERS:
        raise ScoreError("score.too_large", worded("This is too long for the small editor. Save it as a file and add that."))
    with tempfile.TemporaryFile() as source:
        source.write(text.replace("\r\n", "\n").encode())
        source.flush()
        yield source
