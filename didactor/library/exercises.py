"""Exercises made here: the form's choices to a piece in the library."""

from __future__ import annotations

import tempfile
from fractions import Fraction
from typing import Any

from didactor.core.errors import PassageError
from didactor.core.score.generate import make
from didactor.core.score.generate.exercise import choices_of
from didactor.core.score.open import engrave_isolated
from didactor.core.score.read.musicxml import prepare
from didactor.core.score.roadmap import bars_between
from didactor.core.score.spelling import interval_for, pitch_name
from didactor.core.words import worded
from didactor.library.models import Kind, Passage, Piece
from didactor.library.notation import expectation_of, read_part
from didactor.library.services import add_piece, cut_passage
from didactor.people.models import Person


def preview(kind: str, choices: dict[str, Any]) -> tuple[str, dict[str, str]]:
    """Title and drawings of an exercise, without keeping anything. Raises ``CoreError``."""
    exercise, xml = make(kind, choices)
    drawn = engrave_isolated(prepare(xml), 1, None)
    return exercise.title, {layout: engraving.svg for layout, engraving in drawn.items()}


def next_number(teacher: Person, kind: str) -> int:
    """A number that no kept exercise of this kind has, so that what is made next is new."""
    used = Piece.objects.filter(studio=teacher.studio, made_from__kind=kind).values_list("made_from__choices__seed", flat=True)
    return max((int(seed) for seed in used if seed), default=0) + 1


def keep(*, teacher: Person, kind: str, choices: dict[str, Any]) -> Passage:
    """The exercise as a piece with one passage, all of it; the one that is there already if it was made before. Raises ``CoreError``."""
    exercise, xml = make(kind, choices)
    made_from = {"kind": kind, "choices": choices_of(exercise)}
    existing = Piece.objects.filter(studio=teacher.studio, made_from=made_from).first()
    if existing is not None:
        Piece.objects.filter(pk=existing.pk).update(is_put_away=False)
        found = Passage.objects.cut_by_teachers().filter(revision__piece=existing).order_by("pk").first()
        if found is not None:
            return found
    with tempfile.TemporaryFile() as source:
        source.write(xml)
        source.flush()
        piece = add_piece(teacher=teacher, upload=source, filename=f"{kind}.musicxml", title=exercise.title)
    piece.kind, piece.made_from = Kind.TECHNIQUE, made_from
    piece.save(update_fields=["kind", "made_from"])
    bars = piece.current.parts[0]["bars"]
    return cut_passage(
        teacher=teacher, revision=piece.current, part=1, bars=f"{bars[0]['number']}-{bars[-1]['number']}", title=exercise.title
    )


def melody_of(passage: Passage) -> dict[str, Any]:
    """A passage's notes in concert pitch, one after the other, as the choices of a variation.

    Raises:
        PassageError: several voices, or only strokes.
    """
    expectation = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)
    source = read_part(passage.revision_id, passage.part)
    bar = bars_between(source, passage.bars)[0]
    fifths = bar.fifths + interval_for(source.transposition, bar.fifths).fifths
    notes: list[tuple[str, str]] = []
    at = 0.0
    for note in expectation.notes:
        if note.grace:
            continue
        if note.unpitched or note.onset_quarters < at - 1e-6:
            raise PassageError(
                "exercise.no_melody", worded("A rhythm can be laid on one voice only. Choose a passage with a single melody.")
            )
        if note.onset_quarters > at + 1e-6:
            notes.append(("r", _quarters(note.onset_quarters - at)))
        notes.append((pitch_name(note.sounding_midi, fifths), _quarters(note.duration_quarters)))
        at = note.onset_quarters + note.duration_quarters
    return {"notes": tuple(notes), "fifths": fifths, "metre": f"{bar.beats}/{bar.beat_type}", "source": str(passage)}


def _quarters(length: float) -> str:
    return str(Fraction(length).limit_denominator(48))
