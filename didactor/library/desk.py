"""The passage desk: what a teacher adds to a passage before it is given out, kept apart from its notes.

Every change names the version it was made on. When somebody else was quicker nothing is overwritten: ``Overtaken`` says so.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.db.models import F

from didactor.core.errors import PassageError
from didactor.core.formats.lanes.aids import aided_score
from didactor.core.instruments import BY_SLUG, find_instrument
from didactor.core.score.model import Note, Part
from didactor.core.score.roadmap import bars_between, played_order
from didactor.core.score.study.likeness import likenesses
from didactor.core.score.study.segments import Segment, hardest_first, phrases, two_by_two
from didactor.core.score.write.engraving import ACROSS
from didactor.core.units import midi_to_name, name_to_midi
from didactor.core.words import worded
from didactor.library.jobs import lay_reference
from didactor.library.models import Passage, Pin, PinKind, Reference, ReferenceKind
from didactor.library.notation import engravings_of, read_part
from didactor.library.said import is_film, opened
from didactor.library.study import USUAL_QPM, difficulty_of
from didactor.people.models import Person

MOST_REFERENCE_BYTES = 200 * 1024 * 1024


class Overtaken(Exception):
    """Somebody else changed the passage meanwhile."""


@dataclass(frozen=True, kw_only=True)
class NoteOnDesk:
    """One written note as the desk shows it. ``alternatives`` in written names; texts are empty where nothing is pinned."""

    id: str
    bar: str
    name: str
    alternatives: str
    is_optional: bool
    fingering: str
    warning: str
    remark: str


def notes_of(passage: Passage) -> dict[str, Note]:
    """The passage's written notes by id."""
    part = read_part(passage.revision_id, passage.part)
    inside = {bar.index for bar in bars_between(part, passage.bars)}
    return {n.id: n for n in part.notes if n.bar_index in inside}


def note_on_desk(passage: Passage, note_id: str) -> NoteOnDesk | None:
    """What is known of one note; None for one that the passage does not have."""
    note = notes_of(passage).get(note_id)
    if note is None:
        return None
    part = read_part(passage.revision_id, passage.part)
    pinned = {pin.kind: pin.text for pin in passage.pins.filter(note_id=note_id)}
    written = note.sounding_midi - part.transposition
    return NoteOnDesk(
        id=note.id,
        bar=part.bars[note.bar_index].number,
        name=_shown(note.written_pitch),
        alternatives=", ".join(midi_to_name(written + s) for s in passage.alternatives.get(note_id, [])),
        is_optional=note_id in passage.optional,
        fingering=pinned.get(PinKind.FINGERING, ""),
        warning=pinned.get(PinKind.WARNING, ""),
        remark=pinned.get(PinKind.REMARK, ""),
    )


def _shown(name: str) -> str:
    return name.replace("b", "♭").replace("#", "♯")


@transaction.atomic
def set_note(*, passage: Passage, version: int, note_id: str, fields: Mapping[str, Any]) -> None:
    """Keep what the teacher wants of one note.

    Args:
        fields: ``alternatives`` (written names such as “G5, Eb4”), ``optional``, ``fingering``, ``warning``, ``remark``.

    Raises:
        Overtaken: the passage is not at this version any more.
        PassageError: no such note, or a pitch that is none.
    """
    note = notes_of(passage).get(note_id)
    if note is None:
        raise PassageError("passage.no_such_note", worded("This note is not in the passage any more. Open the page again."))
    part = read_part(passage.revision_id, passage.part)
    written = note.sounding_midi - part.transposition
    pitches = _pitches(str(fields.get("alternatives", "")))
    alternatives = {k: v for k, v in passage.alternatives.items() if k != note_id}
    if shifts := sorted({p - written for p in pitches} - {0}):
        alternatives[note_id] = shifts
    optional = [n for n in passage.optional if n != note_id] + ([note_id] if fields.get("optional") else [])
    _change(passage, version, alternatives=alternatives, optional=optional)
    bar = part.bars[note.bar_index].number
    instrument = find_instrument(part.instrument)
    for kind in PinKind.values:
        text = str(fields.get(kind, "")).strip()
        passage.pins.filter(note_id=note_id, kind=kind).delete()
        if text:
            own = instrument.slug if kind == PinKind.FINGERING and instrument.slug in BY_SLUG else ""
            Pin.objects.create(
                passage=passage, kind=kind, note_id=note_id, bar=bar, text=text[: 12 if kind == PinKind.FINGERING else 200], instrument=own
            )


def _pitches(text: str) -> list[int]:
    found = []
    for word in text.replace("♭", "b").replace("♯", "#").replace(",", " ").split():
        try:
            found.append(name_to_midi(word[0].upper() + word[1:]))
        except (ValueError, KeyError, IndexError) as error:
            raise PassageError("passage.pitch", worded("“{word}” is no pitch. Write it like G5 or Eb4.", word=word)) from error
    return found


@transaction.atomic
def set_segments(*, passage: Passage, version: int, segments: str) -> None:
    """Keep the cuts for practising, as ranges of bars. Raises ``Overtaken``, and ``PassageError`` for bars outside the passage."""
    part = read_part(passage.revision_id, passage.part)
    inside = {bar.index for bar in bars_between(part, passage.bars)}
    chosen = segments.replace("–", "-").replace(",", " ").split()
    for text in chosen:
        outside = [bar.number for bar in bars_between(part, text) if bar.index not in inside]
        if outside:
            raise PassageError("passage.segments", worded("Bar {outside} is not in this passage.", outside=outside[0]))
    _change(passage, version, segments=chosen)


@transaction.atomic
def pin_to_bar(*, passage: Passage, version: int, bar: str, text: str) -> None:
    """A remark on a bar, for a printed line or for more than one note. Raises ``Overtaken``, and ``PassageError`` for a bar not in it."""
    inside = bars_between(read_part(passage.revision_id, passage.part), passage.bars)
    if bar not in {b.number for b in inside}:
        raise PassageError(
            "passage.no_such_bar",
            worded(
                "Bar {bar} is not in this passage: it has bars {number} to {number_2}.",
                bar=bar or "?",
                number=inside[0].number,
                number_2=inside[-1].number,
            ),
        )
    if not text.strip():
        raise PassageError("passage.no_words", worded("Write a few words first."))
    _change(passage, version)
    Pin.objects.create(passage=passage, kind=PinKind.REMARK, bar=bar, text=text.strip()[:200])


@transaction.atomic
def warn_at(*, passage: Passage, version: int, note_id: str, text: str) -> None:
    """A warning on one note, in the place of an earlier one. Raises ``Overtaken``, and ``PassageError`` for a note not in it."""
    note = notes_of(passage).get(note_id)
    if note is None:
        raise PassageError("passage.no_such_note", worded("This note is not in the passage any more. Open the page again."))
    _change(passage, version)
    passage.pins.filter(note_id=note_id, kind=PinKind.WARNING).delete()
    bar = read_part(passage.revision_id, passage.part).bars[note.bar_index].number
    Pin.objects.create(passage=passage, kind=PinKind.WARNING, note_id=note_id, bar=bar, text=text.strip()[:200])


@transaction.atomic
def pin_to_moment(*, passage: Passage, version: int, reference_id: int, at: str, text: str) -> None:
    """A remark at a moment (“0:12”, or seconds) of a recording of the teacher's own.

    Raises:
        Overtaken: the passage is not at this version any more.
        PassageError: no such recording, no moment, or no words.
    """
    at_s = _seconds(at)
    reference = passage.references.filter(pk=reference_id).first()
    if reference is None or at_s is None:
        raise PassageError("passage.no_such_moment", worded("“{at}” is no moment of this recording. Write it like 0:12.", at=at))
    if not text.strip():
        raise PassageError("passage.no_words", worded("Write a few words first."))
    _change(passage, version)
    Pin.objects.create(passage=passage, kind=PinKind.REMARK, reference=reference, at_s=at_s, text=text.strip()[:200])


def _seconds(clock: str) -> float | None:
    match = re.fullmatch(r"(?:(\d{1,3}):)?(\d{1,4}(?:\.\d+)?)", clock.strip())
    return 60 * int(match[1] or 0) + float(match[2]) if match else None


@transaction.atomic
def unpin(*, passage: Passage, version: int, pin_id: int) -> None:
    """Take a pin away. Raises ``Overtaken``."""
    _change(passage, version)
    passage.pins.filter(pk=pin_id).delete()


@transaction.atomic
def set_accompaniment(*, passage: Passage, version: int, part: int, intro_bars: int) -> None:
    """Choose the part that accompanies (0 for none) and how many bars of it come before.

    Raises:
        Overtaken: the passage is not at this version any more.
        PassageError: no such part, the passage's own, or more bars than there are before it.
    """
    if part:
        if part == passage.part or not 1 <= part <= len(passage.revision.parts):
            raise PassageError("passage.accompaniment", worded("Choose another part of this piece to accompany."))
        own = read_part(passage.revision_id, passage.part)
        before = bars_between(own, passage.bars)[0].index
        if not 0 <= intro_bars <= before:
            raise PassageError(
                "passage.intro", worded("There are {before} bars before this passage, so the introduction can have no more.", before=before)
            )
    _change(passage, version, accompaniment=part, intro_bars=intro_bars if part else 0)


def _change(passage: Passage, version: int, **fields: Any) -> None:
    """One change on the version it was made on."""
    changed = Passage.objects.filter(pk=passage.pk, version=version).update(version=F("version") + 1, **fields)
    if not changed:
        raise Overtaken
    passage.refresh_from_db(fields=["version", *fields])


@dataclass(frozen=True, kw_only=True)
class Desk:
    """All that the desk shows besides the form: drawings, the unfolded road map, cuts proposed and kept, pins by note, traps."""

    drawings: dict[str, str]
    road_map: tuple[str, ...]
    bars: tuple[str, ...]
    ends: frozenset[str]
    proposals: tuple[tuple[str, str], ...]
    remarks: tuple[tuple[int, Pin], ...]
    traps: tuple[Trap, ...]


@dataclass(frozen=True, kw_only=True)
class Trap:
    """A note at which a bar leaves the pattern of an earlier one. ``warning``: what can be pinned to it."""

    note_id: str
    words: str
    warning: str


def desk_of(passage: Passage) -> Desk:
    """The desk of a passage. Raises ``CoreError`` where it cannot be engraved."""
    part = read_part(passage.revision_id, passage.part)
    inside = bars_between(part, passage.bars)
    numbers = tuple(dict.fromkeys(bar.number for bar in inside))
    indices = {bar.index for bar in inside}
    return Desk(
        drawings=pinned_drawings(passage),
        road_map=road_map_of(passage),
        bars=numbers,
        ends=frozenset(segment.rpartition("-")[2] for segment in passage.segments),
        proposals=(
            (worded("Phrases"), _joined(part, phrases(part), set(numbers))),
            (worded("Two bars at a time"), _joined(part, two_by_two(inside), set(numbers))),
            (worded("Hardest first"), _hardest(passage, numbers)),
        ),
        remarks=tuple(numbered_remarks(passage)),
        traps=tuple(_traps(passage, part, indices)),
    )


def _traps(passage: Passage, part: Part, indices: set[int]) -> Iterator[Trap]:
    """Traps that no warning is pinned to yet."""
    warned = {pin.note_id for pin in passage.pins.all() if pin.kind == PinKind.WARNING}
    for found in likenesses(part):
        if found.trap and {found.bar, found.pattern} <= indices and not warned & set(found.trap):
            bar, pattern = part.bars[found.bar].number, part.bars[found.pattern].number
            yield Trap(
                note_id=found.trap[0],
                words=worded("Bar {bar} goes on otherwise than bar {pattern}.", bar=bar, pattern=pattern),
                warning=worded("Not as in bar {pattern}", pattern=pattern),
            )


def _hardest(passage: Passage, numbers: tuple[str, ...]) -> str:
    """The hardest bars at the piece's own tempo, the hardest first."""
    part = read_part(passage.revision_id, passage.part)
    if not part.notes:
        return ""
    found = difficulty_of(passage, passage.part_entry.get("tempo_qpm") or USUAL_QPM)
    return _joined(part, hardest_first(part, found), set(numbers))


def _joined(part: Part, segments: Sequence[Segment], inside: set[str]) -> str:
    """Segments as one text; what reaches beyond the passage is cut at its ends."""
    order = [bar.number for bar in part.bars]
    found = []
    for segment in segments:
        covered = order[order.index(segment.first) : len(order) - order[::-1].index(segment.last)]
        own = [number for number in covered if number in inside]
        if own:
            found.append(Segment(first=own[0], last=own[-1]).bars)
    return " ".join(found)


def road_map_of(passage: Passage) -> tuple[str, ...]:
    """The bars as they are played, stretch by stretch: “1–4”, “1–4”, “5–8”."""
    part = read_part(passage.revision_id, passage.part)
    played = [bar for bar, _ in played_order(part, bars_between(part, passage.bars), passage.order or None)]
    stretches: list[list[Any]] = []
    for bar in played:
        if stretches and bar.index == stretches[-1][-1].index + 1 and not bar.repeat_start:
            stretches[-1].append(bar)
        else:
            stretches.append([bar])
    return tuple(s[0].number if len(s) == 1 else f"{s[0].number}–{s[-1].number}" for s in stretches)


def numbered_remarks(passage: Passage) -> list[tuple[int, Pin]]:
    """Warnings and remarks with the numbers that stand at their notes."""
    root = passage.root
    return list(enumerate((pin for pin in root.pins.all() if pin.kind != PinKind.FINGERING and pin.reference_id is None), start=1))


def pinned_fingerings(passage: Passage) -> dict[str, str]:
    """Note id to the fingering that the teacher wants there, on this passage's instrument."""
    played_on = find_instrument(read_part(passage.revision_id, passage.part).instrument).slug
    pins = passage.root.pins.all()
    return {pin.note_id: pin.text for pin in pins if pin.kind == PinKind.FINGERING and pin.instrument in ("", played_on)}


def pinned_drawings(passage: Passage, layouts: tuple[str, ...] = ACROSS) -> dict[str, str]:
    """The passage with its fingerings, choices and pins, for each layout. Fingerings are for the instrument they were pinned for."""
    root = passage.root
    fingers = pinned_fingerings(passage)
    numbers = {pin.note_id: str(number) for number, pin in numbered_remarks(passage)}
    choices = _choices_in_words(passage)
    words = {"fingers": fingers, "choices": choices, "numbers": numbers}
    rings = {
        "warned": [pin.note_id for pin in root.pins.all() if pin.kind == PinKind.WARNING],
        "optional": list(root.optional),
    }
    bar_numbers = {bar["id"]: bar["number"] for bar in passage.part_entry["bars"]}
    drawings = {}
    for layout, engraving in engravings_of(revision=passage.revision, part=passage.part, bars=passage.bars, layouts=layouts).items():
        rows = {css: row for css, row in words.items() if row}
        drawings[layout] = aided_score(engraving.svg, engraving.geometry, bar_numbers, rows, rings)
    return drawings


def _choices_in_words(passage: Passage) -> dict[str, str]:
    """Note id to “or G5”, in the names of what this passage's reader plays; optional notes say so."""
    root = passage.root
    found: dict[str, str] = {}
    if not root.alternatives and not root.optional:
        return found
    part = read_part(passage.revision_id, passage.part)
    for note in notes_of(passage).values():
        written = note.sounding_midi - part.transposition
        words = [_shown(midi_to_name(written + s)) for s in root.alternatives.get(note.id, [])]
        if words:
            found[note.id] = worded("or {notes}", notes=" ".join(words))
        elif note.id in root.optional:
            found[note.id] = worded("ad lib.")
    return found


def has_additions(passage: Passage) -> bool:
    """Whether anything was pinned or left to choice."""
    root = passage.root
    return bool(root.alternatives or root.optional or root.pins.filter(reference=None).exists())


def choices_for(passage: Passage) -> dict[str, Any]:
    """What targets take of a passage: note id to further sounding MIDI numbers, and the optional notes; frozen with each take."""
    root = passage.root
    if not root.alternatives and not root.optional:
        return {}
    notes = notes_of(passage)
    return {
        "alternatives": {k: tuple(notes[k].sounding_midi + s for s in shifts) for k, shifts in root.alternatives.items() if k in notes},
        "optional": tuple(n for n in root.optional if n in notes),
    }


def add_reference(*, passage: Passage, teacher: Person, upload: UploadedFile, title: str) -> Reference:
    """Keep a recording of the teacher's own; sound is kept as a copy that every browser plays, video as it came.

    Raises:
        AudioError: no recording, too large, or a video that browsers do not play.
    """
    file = opened(upload, MOST_REFERENCE_BYTES)
    kind = ReferenceKind.VIDEO if is_film(str(file.name)) else ReferenceKind.SOUND
    title = title.strip()[:120] or (worded("How it looks") if kind == ReferenceKind.VIDEO else worded("How it sounds"))
    with transaction.atomic():
        made = Reference.objects.create(passage=passage, title=title, kind=kind, file=file, created_by=teacher)
        lay_reference.defer(reference_id=made.pk)
    return made
