"""What a teacher would find in a part with pencil and patience: hard bars, bars alike, where to cut, where to begin the tempo."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import lru_cache

from django.core.cache import cache

from didactor.core.errors import PassageError
from didactor.core.formats.lanes import plain_score
from didactor.core.formats.lanes.study import StudyView, study_score
from didactor.core.score.expected import expect
from didactor.core.score.model import Part
from didactor.core.score.study.difficulty import Correction, Difficulty, difficulty, ladder, starting_tempo
from didactor.core.score.study.likeness import Kind, Likeness, likenesses
from didactor.core.score.study.segments import Segment, hardest_first, phrases, two_by_two
from didactor.core.score.write.engraving import ACROSS
from didactor.core.units import beat_unit_of, beats_to_quarters_per_minute, quarters_to_beats_per_minute
from didactor.core.words import _, listed, worded
from didactor.library.drawings import full_key
from didactor.library.models import BarCorrection, Passage, Piece, PieceRevision
from didactor.library.notation import engravings_of, read_part

#: Where a score says no tempo, quarters a minute.
USUAL_QPM = 80.0
_INTERVALS = (
    "",
    _("a semitone"),
    _("a tone"),
    _("a minor third"),
    _("a major third"),
    _("a fourth"),
    _("a tritone"),
    _("a fifth"),
    _("a minor sixth"),
    _("a major sixth"),
    _("a minor seventh"),
    _("a major seventh"),
    _("an octave"),
)


@dataclass(frozen=True, kw_only=True)
class Study:
    """Everything found in one part, in words and as a drawing to lay over it."""

    difficulty: Difficulty
    hardest: str
    because: str
    unit: str
    target: int
    start: int
    steps: tuple[int, ...]
    alike: tuple[str, ...]
    proposals: tuple[tuple[str, tuple[Segment, ...]], ...]
    view: StudyView


def study_of(*, revision: PieceRevision, part: int, target_bpm: float | None = None, level: str = "elementary") -> Study | None:
    """What is in a part; None where it has no notes."""
    corrections = tuple((c.bar, c.steps, c.why) for c in revision.piece.bar_corrections.filter(part=part))
    return _study(revision.pk, part, target_bpm, level, corrections)


def difficulty_of(passage: Passage, tempo_qpm: float) -> Difficulty:
    """How hard a passage is for who reads it, with the teacher's corrections. Raises ``PassageError`` where nothing is to be played."""
    part = read_part(passage.revision_id, passage.part)
    root = passage.root
    corrections = {c.bar: Correction(steps=c.steps, why=c.why) for c in root.revision.piece.bar_corrections.filter(part=root.part)}
    return difficulty(expect(part, passage.bars), tempo_qpm, part).corrected(corrections)


def study_drawings(*, revision: PieceRevision, part: int, found: Study | None) -> dict[str, str]:
    """The whole part for each layout, with what was found in it; kept, as long as the same is found. Raises ``ScoreError``."""
    view = found.view if found else StudyView(bar_numbers={bar["id"]: bar["number"] for bar in revision.part(part)["bars"]})
    digest = hashlib.sha256(repr(view).encode()).hexdigest()[:24]
    keys = {layout: full_key(f"study:{revision.pk}:{part}:{digest}", layout) for layout in ACROSS}
    kept: dict[str, str] = cache.get_many(keys.values())
    if len(kept) < len(keys):
        engraved = engravings_of(revision=revision, part=part, bars="")
        draw = study_score if found else lambda svg, geometry, view: plain_score(svg, geometry, view.bar_numbers)
        kept = {keys[layout]: draw(e.svg, e.geometry, view) for layout, e in engraved.items()}
        cache.set_many(kept, timeout=None)
    return {layout: kept[key] for layout, key in keys.items()}


def correct_bar(*, piece: Piece, part: int, bar: str, steps: int, why: str = "") -> None:
    """Keep a teacher's word on a bar; 0 steps takes it back. Raises ``PassageError`` for a bar that is not there."""
    if not any(entry["number"] == bar for entry in piece.current.part(part)["bars"]):
        raise PassageError("passage.no_such_bar", worded("Bar {bar} is not in this part.", bar=bar or "?"))
    if steps:
        BarCorrection.objects.update_or_create(piece=piece, part=part, bar=bar, defaults={"steps": steps, "why": why.strip()[:100]})
    else:
        BarCorrection.objects.filter(piece=piece, part=part, bar=bar).delete()


@lru_cache(maxsize=64)
def _study(
    revision_id: int, part_index: int, target_bpm: float | None, level: str, corrections: tuple[tuple[str, int, str], ...]
) -> Study | None:
    part = read_part(revision_id, part_index)
    try:
        # As written, each bar once: a repeat is no harder the second time.
        expectation = expect(part, None, f"{part.bars[0].number}-{part.bars[-1].number}")
    except PassageError:
        return None
    unit = beat_unit_of(part.bars[-1].beat_quarters)
    marked = next((bar.tempo_qpm for bar in part.bars if bar.tempo_qpm), None) or USUAL_QPM
    qpm = beats_to_quarters_per_minute(target_bpm, unit) if target_bpm else marked
    found = difficulty(expectation, qpm, part).corrected({bar: Correction(steps=steps, why=why) for bar, steps, why in corrections})
    like = likenesses(part)
    start = quarters_to_beats_per_minute(starting_tempo(found, qpm, level), unit)
    target = quarters_to_beats_per_minute(qpm, unit)
    hardest = found.hardest
    return Study(
        difficulty=found,
        hardest=hardest.number,
        because=" and ".join(hardest.why),
        unit=unit.replace("_", " "),
        target=round(target),
        start=ladder(start, target)[0],
        steps=tuple(ladder(start, target)),
        alike=tuple(_in_words(entry, part) for entry in like),
        proposals=(
            (worded("Phrases"), tuple(phrases(part))),
            (worded("Two bars at a time"), tuple(two_by_two(part.bars))),
            (worded("Hardest first"), tuple(hardest_first(part, found))),
        ),
        view=_view(part, found, like),
    )


def _view(part: Part, found: Difficulty, like: list[Likeness]) -> StudyView:
    highest = max((b.value for b in found.bars), default=0.0) or 1.0
    by_number = {b.number: b for b in found.bars}
    heat, says = {}, {}
    for bar in part.bars:
        entry = by_number.get(bar.number)
        if entry is not None and entry.value > 0:
            heat[bar.id] = entry.value / highest
            says[bar.id] = worded(
                "Bar {number}: {why}, {rate:.1f} notes a second",
                number=bar.number,
                why=listed(entry.why) or worded("nothing unusual"),
                rate=entry.notes_per_second,
            )
    return StudyView(
        bar_numbers={bar.id: bar.number for bar in part.bars},
        heat=heat,
        says=says,
        like={part.bars[entry.bar].id: _label(entry, part) for entry in like},
        traps={
            note: worded("A trap: bar {number} went on otherwise here", number=part.bars[e.pattern].number) for e in like for note in e.trap
        },
    )


def _label(entry: Likeness, part: Part) -> str:
    number = part.bars[entry.pattern].number
    return {
        Kind.SAME: worded("as {number}", number=number),
        Kind.TRANSPOSED: worded("{number} moved", number=number),
        Kind.ALMOST: worded("almost {number}", number=number),
    }[entry.kind]


def _in_words(entry: Likeness, part: Part) -> str:
    bar, pattern = part.bars[entry.bar].number, part.bars[entry.pattern].number
    if entry.kind is Kind.SAME:
        return worded("Bar {bar} is bar {pattern} again.", bar=bar, pattern=pattern)
    moved = _moved_in_words(entry.semitones)
    if entry.kind is Kind.TRANSPOSED:
        return worded("Bar {bar} is bar {pattern}, {moved}.", bar=bar, pattern=pattern, moved=moved)
    return (
        worded("Bar {bar} is almost bar {pattern}, {moved}: one note differs, a trap.", bar=bar, pattern=pattern, moved=moved)
        if moved
        else worded("Bar {bar} is almost bar {pattern}: one note differs, a trap.", bar=bar, pattern=pattern)
    )


def _moved_in_words(semitones: int) -> str:
    if not semitones:
        return ""
    size = abs(semitones)
    words = _INTERVALS[size] if size <= 12 else worded("{size} semitones", size=size)
    return worded("{interval} higher", interval=words) if semitones > 0 else worded("{interval} lower", interval=words)
