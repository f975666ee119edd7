"""A student looks through a passage before anything of it is told: what is asked, and what was found."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from django.db import transaction
from django.utils import timezone

from didactor.assignments.models import FoundOut, Task
from didactor.core.formats.lanes.aids import aided_score
from didactor.core.score.model import Bar, Note
from didactor.core.score.roadmap import bars_between
from didactor.core.score.study.difficulty import starting_tempo
from didactor.core.score.study.finding_out import Answers, Questions, answer, questions
from didactor.core.score.write.engraving import PLAYED_FROM
from didactor.core.units import quarters_to_beats_per_minute
from didactor.core.words import _
from didactor.library.notation import engravings_of, read_part
from didactor.library.study import difficulty_of

TITLES = {"key": _("The key"), "hardest": _("The hardest bar"), "counts": _("Counting"), "tempo": _("The tempo to begin with")}


@dataclass(frozen=True, kw_only=True)
class ToCount:
    """A note of the counted bar: its id and which one of the bar it is."""

    note_id: str
    number: int


@dataclass(frozen=True, kw_only=True)
class Told:
    """One line of what was found, ready to be shown."""

    title: str
    right: bool | None
    words: str


def questions_of(task: Task) -> Questions:
    """What is asked of a task's passage."""
    notes, bars = _notes(task)
    return questions(notes, bars, task.enrolment.student.studio.counting_words)


def to_count(asked: Questions) -> list[ToCount]:
    """The notes of the counted bar, in order."""
    return [ToCount(note_id=c.note_id, number=k) for k, c in enumerate((c for c in asked.counted if c.note_id), start=1) if c.note_id]


def count_words(asked: Questions) -> list[str]:
    """What can be said in the counted bar, in order."""
    return [c.word for c in asked.counted]


def begin(task: Task) -> FoundOut:
    """The looking begins when the page is opened first, and is not begun anew by a reload."""
    return FoundOut.objects.get_or_create(task=task)[0]


@transaction.atomic
def find_out(*, task: Task, said: Answers) -> FoundOut:
    """Keep what a student found, and how it was. What was said once stays. Raises ``CoreError`` where the score cannot be read."""
    begin(task)
    kept = FoundOut.objects.select_for_update().get(task=task)
    if kept.done_at is not None:
        return kept
    qpm = task.targets.tempo_qpm
    found = difficulty_of(task.passage, qpm)
    start = quarters_to_beats_per_minute(starting_tempo(found, qpm, task.enrolment.level), task.assignment.beat_unit)
    told = answer(questions_of(task), said, found, start)
    kept.answers = {
        "key": sorted(said.key) if said.key is not None else None,
        "hardest": said.hardest,
        "counts": dict(said.counts),
        "tempo": said.tempo_bpm,
    }
    kept.result, kept.done_at = [asdict(entry) for entry in told], timezone.now()
    kept.save()
    return kept


def told_of(kept: FoundOut) -> list[Told]:
    """What was found, line by line; every line says what there was to find."""
    return [Told(title=TITLES[entry["about"]], right=entry["right"], words=entry["words"]) for entry in kept.result]


def found_drawings(task: Task, kept: FoundOut | None) -> dict[str, str]:
    """The passage in a large staff; once it was answered, with rings round what was found, overlooked and mistaken."""
    passage = task.passage
    numbers = {bar["id"]: bar["number"] for bar in passage.part_entry["bars"]}
    rings = _rings(kept.result, kept.answers) if kept and kept.done_at else {}
    engraved = engravings_of(revision=passage.revision, part=passage.part, bars=passage.bars, layouts=PLAYED_FROM)
    return {layout: aided_score(e.svg, e.geometry, numbers, {}, rings) for layout, e in engraved.items()}


def _rings(result: list[dict[str, Any]], answers: Mapping[str, Any]) -> dict[str, list[str]]:
    key = next((entry for entry in result if entry["about"] == "key"), None)
    if key is None:
        return {}
    return {
        "found": sorted(set(answers.get("key") or []) - set(key["mistaken"])),
        "overlooked": list(key["overlooked"]),
        "mistaken": list(key["mistaken"]),
    }


def _notes(task: Task) -> tuple[list[Note], dict[int, Bar]]:
    part = read_part(task.passage.revision_id, task.passage.part)
    bars = {bar.index: bar for bar in bars_between(part, task.passage.bars)}
    return [n for n in part.notes if n.bar_index in bars], bars


def listed(task: Task, asked: Questions) -> list[tuple[str, list[tuple[str, str]]]]:
    """The notes by bar, to choose them without touching the score: id and letter, which does not give away the sign."""
    notes, bars = _notes(task)
    by_bar: dict[str, list[tuple[str, str]]] = {}
    for note in notes:
        if note.id in asked.pitched:
            by_bar.setdefault(bars[note.bar_index].number, []).append((note.id, note.step))
    return list(by_bar.items())
