"""The notation of pieces as the core reads and draws it. Revisions never change, so what was read or drawn of one is kept."""

from __future__ import annotations

from collections.abc import Collection
from functools import lru_cache

from django.core.cache import cache
from django.db import IntegrityError

from didactor.core.errors import PassageError, ScoreError
from didactor.core.score.expected import Expectation, expect, without_notation
from didactor.core.score.model import Part
from didactor.core.score.open import engrave_isolated
from didactor.core.score.read.lyrics import read_lyrics
from didactor.core.score.read.musicxml import read
from didactor.core.score.roadmap import bars_between, played_order
from didactor.core.score.study.reading_aids import note_name
from didactor.core.score.write.engraving import ACROSS
from didactor.core.words import keep, worded
from didactor.core.words import read as read_words
from didactor.library.models import Engraving, Passage, PieceRevision

#: Goes up when drawings made before would differ; older ones stay and are not used.
ENGRAVER = "verovio-6.4/6"
#: For so long a failed engraving is not tried again.
FAILURE_KEPT_S = 24 * 3600


@lru_cache(maxsize=32)
def read_part(revision_id: int, part: int) -> Part:
    """Revisions never change, so what was read of one may be kept in memory."""
    prepared = bytes(PieceRevision.objects.only("prepared").get(pk=revision_id).prepared)
    parts = read(prepared).parts
    if not 1 <= part <= len(parts):
        raise PassageError("passage.no_such_part", worded("There is no part {part} in this score.", part=part))
    return parts[part - 1]


def expectation_of(*, revision_id: int, part: int, bars: str, order: str = "") -> Expectation:
    """What should sound when these bars are played; of a printed line only metre and bars are known. Raises ``PassageError``."""
    source = read_part(revision_id, part)
    if not source.notes:
        chosen = bars_between(source, bars or None)
        return without_notation(len(chosen), chosen[0].beats, chosen[0].beat_type)
    return expect(source, bars or None, order or None)


def expectation_of_passage(passage: Passage) -> Expectation:
    """What should sound when a passage is played in its order."""
    return expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)


@lru_cache(maxsize=64)
def read_syllables(revision_id: int, part: int) -> dict[str, str]:
    """Note id to the syllable of the first verse."""
    return read_lyrics(bytes(PieceRevision.objects.only("prepared").get(pk=revision_id).prepared), part)


def names_in_time(passage: Passage, naming: str) -> list[tuple[float, str]]:
    """When which note is named, quarters from the start, in the order of playing; of notes that begin together the highest is named."""
    part = read_part(passage.revision_id, passage.part)
    written = {note.id: note for note in part.notes}
    own = passage.created_by.studio.note_names
    named: dict[float, tuple[int, str]] = {}
    for note in expectation_of_passage(passage).notes:
        if not note.grace and note.sounding_midi >= named.get(note.onset_quarters, (-1, ""))[0]:
            name = note_name(written[note.id], part.bars[0].fifths, naming, own)
            named[note.onset_quarters] = (note.sounding_midi, name)
    return [(at, name) for at, (_, name) in sorted(named.items()) if name]


def engravings_of(*, revision: PieceRevision, part: int, bars: str, layouts: Collection[str] = ACROSS) -> dict[str, Engraving]:
    """The drawings of some bars; those not made before are made now, side by side. Raises ``ScoreError``."""
    key = {"revision": revision, "part": part, "bars": bars, "version": ENGRAVER}
    found = {engraving.layout: engraving for engraving in Engraving.objects.filter(**key, layout__in=layouts)}
    missing = [layout for layout in layouts if layout not in found]
    if missing:
        failed = f"not-engraved:{ENGRAVER}:{revision.pk}:{part}:{bars}"
        if (words := cache.get(failed)) is not None:
            raise ScoreError("score.not_engraved", read_words(words))
        try:
            drawings = engrave_isolated(bytes(revision.prepared), part, bars or None, missing)
        except ScoreError as error:
            # It would fail alike, and take as long, whenever somebody looks.
            cache.set(failed, keep(error.message), FAILURE_KEPT_S)
            raise
        for layout, drawn in drawings.items():
            made = {"svg": drawn.svg, "geometry": drawn.geometry}
            try:
                found[layout], _ = Engraving.objects.get_or_create(**key, layout=layout, defaults=made)
            except IntegrityError:
                # The piece was erased while it was drawn: whoever looks still sees it, and nobody keeps it.
                found[layout] = Engraving(**key, layout=layout, **made)
    return found


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
