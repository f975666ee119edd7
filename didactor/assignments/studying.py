"""The study sheet of one task: what to find out before playing, each layer to be switched on by itself."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from didactor.assignments.models import Task
from didactor.core.formats.lanes.aids import aided_score
from didactor.core.score.difficulty import difficulty, ladder, starting_tempo
from didactor.core.score.engraving import LAYOUTS
from didactor.core.score.likeness import likenesses
from didactor.core.score.reading_aids import NAMINGS, counting, loudness_in_words, note_name, read_key_signature, subdivision_in_words
from didactor.core.score.roadmap import bars_between
from didactor.core.units import quarters_to_beats_per_minute
from didactor.library.services import engraving_of, expectation_of, read_part

LAYERS = {"key": "The key's notes", "counting": "Counting", "names": "Note names"}


@dataclass(frozen=True, kw_only=True)
class StudySheet:
    drawings: dict[str, str]
    layers: tuple[str, ...]
    naming: str
    facts: tuple[tuple[str, str], ...]


def study_sheet(task: Task, layers: list[str], naming: str) -> StudySheet:
    """Drawings and facts for a task's passage. Raises ``CoreError`` where it cannot be engraved."""
    passage = task.passage
    part = read_part(passage.revision_id, passage.part)
    bars = {bar.index: bar for bar in bars_between(part, passage.bars)}
    notes = [n for n in part.notes if n.bar_index in bars]
    chosen = tuple(layer for layer in LAYERS if layer in layers)
    naming = naming if naming in NAMINGS else "letters"
    key = read_key_signature(notes, bars)
    rows: dict[str, dict[str, str]] = {}
    if "counting" in chosen:
        rows["counting"] = counting(notes, bars)
    if "names" in chosen:
        rows["names"] = {n.id: note_name(n, bars[n.bar_index].fifths, naming) for n in notes}
    rings = {"touched": key.touched, "against": key.against} if "key" in chosen else {}
    numbers = {bar["id"]: bar["number"] for bar in passage.part_entry["bars"]}
    drawings = {}
    for layout in LAYOUTS:
        engraving = engraving_of(revision=passage.revision, part=passage.part, bars=passage.bars, layout=layout)
        drawings[layout] = aided_score(engraving.svg, engraving.geometry, numbers, rows, rings)
    facts = tuple(_facts(task, part, bars, notes, key)) if notes else ()
    return StudySheet(drawings=drawings, layers=chosen, naming=naming, facts=facts)


def _facts(task: Task, part: Any, bars: Any, notes: Any, key: Any) -> list[tuple[str, str]]:
    passage, assignment = task.passage, task.assignment
    first = next(iter(bars.values()))
    facts = []
    if any(not n.unpitched for n in notes):
        signs = ", ".join(key.signs) or "no signs"
        times = f"; it changes {_notes(len(key.touched))} here" if key.signs else ""
        more = f"; {_notes(len(key.against))} with a sign of {'its' if len(key.against) == 1 else 'their'} own" if key.against else ""
        facts.append(("Key signature", f"{signs}{times}{more}."))
    facts.append(("Time signature", f"{first.beats}/{first.beat_type}. {subdivision_in_words(notes, bars)}"))
    expectation = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)
    qpm = task.targets.tempo_qpm
    found = difficulty(expectation, qpm, first.fifths)
    facts.append(("The hardest bar", f"Bar {found.hardest.number}: {' and '.join(found.hardest.why) or 'look at it first'}."))
    start = quarters_to_beats_per_minute(starting_tempo(found, qpm, task.enrolment.level), assignment.beat_unit)
    steps = ladder(start, quarters_to_beats_per_minute(qpm, assignment.beat_unit))
    facts.append(("Tempo", f"{task.tempo_in_words}. " + (f"Begin at {', then '.join(map(str, steps))}." if len(steps) > 1 else "")))
    loud = loudness_in_words(part, bars)
    if loud:
        facts.append(("Loud and soft", ", ".join(loud) + "."))
    alike = [x for x in likenesses(part) if x.bar in bars and x.pattern in bars]
    if alike:
        words = {"same": "is", "transposed": "moves", "almost": "is almost"}
        told = "; ".join(f"bar {bars[x.bar].number} {words[x.kind]} bar {bars[x.pattern].number}" for x in alike[:8])
        facts.append(("Bars alike", f"{told[0].upper()}{told[1:]}."))
    return facts


def _notes(count: int) -> str:
    return "1 note" if count == 1 else f"{count} notes"
