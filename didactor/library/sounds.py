"""Sounds that are rendered for a passage: models of a student's part, and accompaniments to play along with."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from django.db import transaction
from django.db.models import QuerySet

from didactor.core.instruments import find_instrument
from didactor.core.sound.player.take import model_start_s
from didactor.library.jobs import SOMEBODY_WAITS, render_model, stretch_reference
from didactor.library.models import ModelSound, Passage, Reference, ReferenceSound
from didactor.library.notation import accompaniment_expectation, intro_quarters


def want_model_sounds(*, passage: Passage, instrument: str, tempi_qpm: Iterable[float]) -> None:
    """Ask for the model at some tempi; what is not rendered yet is put into the queue."""
    with transaction.atomic():
        for tempo_qpm in tempi_qpm:
            sound, made = ModelSound.objects.get_or_create(
                passage=passage, instrument=instrument, tempo_qpm=round(tempo_qpm, 2), count_off=0, of_part=0, naming=""
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
        "naming": "",
    }


def want_accompaniment(*, passage: Passage, tempo_qpm: float, count_off: int) -> None:
    """Ask for the accompaniment at the target tempo, where the passage has one."""
    key = accompaniment_of(passage, tempo_qpm, count_off)
    if key is None:
        return
    with transaction.atomic():
        sound, made = ModelSound.objects.get_or_create(**key)
        if made:
            render_model.defer(model_sound_id=sound.pk)


def sound_at(
    *, passage: Passage, instrument: str, tempo_qpm: float, count_off: int = 0, accompaniment: bool = False, naming: str = ""
) -> ModelSound | None:
    """The model, the accompaniment or the names of the notes at some tempo, rendered or not yet: somebody waits for it, so it goes before
    what is only kept ready. None where the passage has no accompaniment.
    """
    key: dict[str, Any] | None = {
        "passage": passage,
        "instrument": instrument,
        "tempo_qpm": round(tempo_qpm, 2),
        "count_off": count_off,
        "of_part": 0,
        "intro_bars": 0,
        "naming": naming,
    }
    if accompaniment:
        key = accompaniment_of(passage, tempo_qpm, count_off)
    if key is None:
        return None
    with transaction.atomic():
        sound, made = ModelSound.objects.get_or_create(**key)
        if made:
            render_model.configure(priority=SOMEBODY_WAITS).defer(model_sound_id=sound.pk)
    return sound


def enters_s(sound: ModelSound) -> float:
    """When in an accompaniment the passage's first bar begins (an anacrusis included): after count-off and introduction."""
    passage, quarter_s = sound.passage, 60.0 / sound.tempo_qpm
    expected = accompaniment_expectation(passage, sound.of_part, sound.intro_bars)
    start_s = model_start_s(expected, sound.tempo_qpm, sound.count_off, expected.bars[0].beat_quarters)
    return start_s + intro_quarters(passage, sound.intro_bars) * quarter_s


def references_in_time(passage: Passage) -> QuerySet[Reference]:
    """The teacher's recordings that a line can run with: laid over the score, and played in the order of this passage."""
    root = passage.root
    if passage.order != root.order:
        return Reference.objects.none()
    return Reference.objects.filter(passage=root, laid__isnull=False)


def known_references(passage: Passage) -> list[Reference]:
    """The same, asked for once however many things are told from them."""
    if not hasattr(passage, "_known_references"):
        passage._known_references = list(references_in_time(passage).select_related("created_by"))  # type: ignore[attr-defined]
    known: list[Reference] = passage._known_references  # type: ignore[attr-defined]
    return known


def reference_sound_at(reference: Reference, tempo_qpm: float) -> ReferenceSound | None:
    """A laid recording at some tempo, made or not yet; None for one that does not fit the notes."""
    if not reference.laid:
        return None
    with transaction.atomic():
        sound, made = ReferenceSound.objects.get_or_create(reference=reference, tempo_qpm=round(tempo_qpm, 2))
        if made:
            stretch_reference.defer(reference_sound_id=sound.pk)
    return sound


def anchors_of(sound: ReferenceSound) -> list[tuple[float, float]]:
    """When each moment of the passage is played in a recording at its tempo: quarters and seconds."""
    laid = sound.reference.laid or {"tempo_qpm": sound.tempo_qpm, "anchors": []}
    ratio = laid["tempo_qpm"] / sound.tempo_qpm
    return [(quarters, round(seconds * ratio, 4)) for quarters, seconds in laid["anchors"]]
