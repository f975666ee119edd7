"""The study sheet of one task: what to find out before playing, each layer to be switched on by itself."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from didactor.assignments.models import Task
from didactor.core.formats.lanes.aids import aided_score
from didactor.core.formats.lanes.fingering import chord_picture, keyboard_picture
from didactor.core.instruments import Instrument, find_instrument
from didactor.core.score.model import Bar, Note, Part
from didactor.core.score.roadmap import bars_between
from didactor.core.score.study.counting import counting
from didactor.core.score.study.difficulty import ladder, starting_tempo
from didactor.core.score.study.fingering import Fingering, chord_shape, fingering_of
from didactor.core.score.study.hand_moves import hand_moves
from didactor.core.score.study.likeness import likenesses
from didactor.core.score.study.reading_aids import NAMINGS, loudness_in_words, note_name, read_key_signature
from didactor.core.score.study.terms import signs_in, terms_in
from didactor.core.score.study.woodwinds import KEYS
from didactor.core.units import quarters_to_beats_per_minute
from didactor.core.words import _, counted, listed, worded
from didactor.library.desk import pinned_fingerings
from didactor.library.notation import engravings_of, read_part
from didactor.library.study import difficulty_of

LAYERS = {
    "key": _("The key's notes"),
    "counting": _("Counting"),
    "names": _("Note names"),
    "fingering": _("Fingering"),
    "moves": _("Where the hand moves"),
    "large": _("Large words and chords"),
}


@dataclass(frozen=True, kw_only=True)
class StudySheet:
    drawings: dict[str, str]
    layers: tuple[str, ...]
    naming: str
    facts: tuple[tuple[str, str], ...]
    pictures: tuple[str, ...] = ()


def study_sheet(task: Task, layers: list[str], naming: str) -> StudySheet:
    """Drawings and facts for a task's passage. Raises ``CoreError`` where it cannot be engraved."""
    passage = task.passage
    part = read_part(passage.revision_id, passage.part)
    bars = {bar.index: bar for bar in bars_between(part, passage.bars)}
    notes = [n for n in part.notes if n.bar_index in bars]
    chosen = tuple(layer for layer in LAYERS if layer in layers)
    naming = naming if naming in NAMINGS else "letters"
    own_names = task.enrolment.student.studio.note_names
    key = read_key_signature(notes, bars)
    rows: dict[str, dict[str, str]] = {}
    counted = counting(notes, bars, task.enrolment.student.studio.counting_words)
    if "names" in chosen:
        rows["names"] = {n.id: note_name(n, bars[n.bar_index].fifths, naming, own_names) for n in notes}
    rings = {"touched": key.touched, "against": key.against} if "key" in chosen else {}
    instrument = find_instrument(task.enrolment.instrument)
    moves = hand_moves(notes, instrument)
    if "moves" in chosen:
        rings["moves"] = tuple(moves)
    fingerings: dict[str, Fingering] = {}
    if "fingering" in chosen:
        # What the teacher wants counts before the score's own, and both before the usual.
        own = {n.id: n.fingering for n in notes if n.fingering} | pinned_fingerings(passage)
        if own:
            rows["fingers"] = own
        fingerings = {note: fingering for note, fingering in _fingerings(notes, instrument).items() if note not in own}
    numbers = {bar["id"]: bar["number"] for bar in passage.part_entry["bars"]}
    drawings = {}
    for layout, engraving in engravings_of(revision=passage.revision, part=passage.part, bars=passage.bars).items():
        drawings[layout] = aided_score(
            engraving.svg,
            engraving.geometry,
            numbers,
            rows,
            rings,
            fingerings,
            counted.counts if "counting" in chosen else (),
            {bar.id: bar.length_quarters for bar in bars.values()},
        )
    facts = (*_facts(task, part, bars, notes, key, counted.in_words), *_explained(part, bars, notes, moves, fingerings)) if notes else ()
    pictures = tuple(_pictures(part, bars, notes, instrument, naming)) if "fingering" in chosen else ()
    return StudySheet(drawings=drawings, layers=chosen, naming=naming, facts=facts, pictures=pictures)


def _fingerings(notes: list[Note], instrument: Instrument) -> dict[str, Fingering]:
    """Note id to its fingering, where a picture is known for it and the score has no finger of its own."""
    found = {}
    for note in notes:
        if note.tie_stop or note.unpitched or note.fingering:
            continue
        fingering = fingering_of(instrument, note.sounding_midi - instrument.transposition, note.sounding_midi)
        if fingering is not None:
            found[note.id] = fingering
    return found


def _pictures(part: Part, bars: dict[int, Bar], notes: list[Note], instrument: Instrument, naming: str) -> Iterator[str]:
    """Chord shapes for strummers, the keys of the passage for keyboard players."""
    seen: set[str] = set()
    for chord in part.chords:
        if chord.bar_index in bars and chord.text not in seen:
            seen.add(chord.text)
            shape = chord_shape(instrument, chord.text, chord.pitch_classes)
            if shape is not None:
                yield chord_picture(shape)
    sounding = [n for n in notes if not n.unpitched]
    if instrument.fingering in ("keyboard", "bars") and sounding:
        names = {n.sounding_midi: note_name(n, bars[n.bar_index].fifths, naming) for n in sounding}
        yield keyboard_picture(set(names), names)


def _explained(
    part: Part, bars: dict[int, Bar], notes: list[Note], moves: dict[str, str], fingerings: dict[str, Fingering]
) -> Iterator[tuple[str, str]]:
    """Terms, signs and keys in plain words, and where the hand moves."""
    terms = [f"{term}: {meaning}" for term, meaning in terms_in(part, bars)]
    if terms:
        yield worded("Words"), "; ".join(terms) + "."
    signs = [f"{what}: {meaning}" for what, meaning in signs_in(notes, bars)]
    if signs:
        yield worded("Bowing and articulation"), "; ".join(signs) + "."
    keys = dict.fromkeys(key for fingering in fingerings.values() for key in fingering.keys)
    if keys:
        yield worded("Keys"), "; ".join(worded("{sign} is the {key}", sign=key, key=KEYS[key]) for key in keys) + "."
    by_id = {n.id: bars[n.bar_index].number for n in notes}
    told = [worded("bar {bar}: {words}", bar=by_id[note], words=words) for note, words in moves.items()]
    if told:
        more = worded(" … {told} more", told=len(told) - 8) if len(told) > 8 else ""
        yield worded("The hand"), "; ".join(told[:8]) + more + "."


#: Likenesses of bars, by their kind.
ALIKE = {
    "same": _("Bar {bar} is bar {pattern}."),
    "transposed": _("Bar {bar} is bar {pattern}, moved."),
    "almost": _("Bar {bar} is almost bar {pattern}."),
}


def _facts(task: Task, part: Any, bars: Any, notes: Any, key: Any, counting_line: str) -> list[tuple[str, str]]:
    passage, assignment = task.passage, task.assignment
    first = next(iter(bars.values()))
    facts = []
    if any(not n.unpitched for n in notes):
        signs = ", ".join(key.signs) or worded("no signs")
        said = [counted("{signs}; it changes 1 note here", "{signs}; it changes {count} notes here", len(key.touched), signs=signs)]
        if not key.signs:
            said = [signs]
        if key.against:
            said.append(counted("1 note with a sign of its own", "{count} notes with a sign of their own", len(key.against)))
        facts.append((worded("Key signature"), f"{'; '.join(said)}."))
    facts.append((worded("Time signature"), f"{first.beats}/{first.beat_type}. {counting_line}"))
    qpm = task.targets.tempo_qpm
    found = difficulty_of(passage, qpm)
    why = listed(found.hardest.why)
    facts.append(
        (
            worded("The hardest bar"),
            worded("Bar {number}: {why}.", number=found.hardest.number, why=why)
            if why
            else worded("No bar is much harder than the others."),
        )
    )
    start = quarters_to_beats_per_minute(starting_tempo(found, qpm, task.enrolment.level), assignment.beat_unit)
    steps = assignment.ladder or ladder(start, quarters_to_beats_per_minute(qpm, assignment.beat_unit))
    facts.append(
        (
            worded("Tempo"),
            worded(
                "{target}. Begin at {first}, then {steps}.",
                target=task.tempo_in_words,
                first=f"{steps[0]:g}",
                steps=", ".join(f"{step:g}" for step in steps[1:]),
            )
            if len(steps) > 1
            else f"{task.tempo_in_words}.",
        )
    )
    loud = loudness_in_words(part, bars)
    if loud:
        facts.append((worded("Loud and soft"), ", ".join(loud) + "."))
    alike = [x for x in likenesses(part) if x.bar in bars and x.pattern in bars]
    if alike:
        told = (worded(ALIKE[x.kind], bar=bars[x.bar].number, pattern=bars[x.pattern].number) for x in alike[:8])
        facts.append((worded("Bars alike"), " ".join(told)))
    return facts
