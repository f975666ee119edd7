"""What the score says of the places at which attempts fail, and what the attempts were, as the reading of a fault asks for them."""

from __future__ import annotations

from datetime import datetime

from didactor.assignments.models import Task
from didactor.core.causes.registry import Cause
from didactor.core.practising.crossing import Kind, Outcome, Stone
from didactor.core.practising.keeps_failing import Tried, causes_in_practice
from didactor.core.practising.kinds import Place, Try
from didactor.core.score.expected import Expectation
from didactor.core.score.study.likeness import likenesses
from didactor.core.words import worded
from didactor.library.notation import expectation_of_passage, read_part
from didactor.practice.models import Attempt
from didactor.practice.music import music_of_stone
from didactor.practice.state import State

#: A rest of so many beats before a note makes an entry of it; a seam's own notes lie so near to it, in beats.
REST_BEATS, SEAM_BEATS = 0.5, 1.0


def places_of(task: Task, stone: Stone, music: Expectation) -> dict[str, Place]:
    """By note id."""
    part = read_part(task.passage.revision_id, task.passage.part)
    numbers = {bar.index: bar.number for bar in part.bars}
    patterns = {numbers[found.bar]: numbers[found.pattern] for found in likenesses(part) if found.trap}
    seam = next((bar.start_quarters for bar in music.bars if bar.number == stone.last), None) if stone.kind is Kind.JOIN else None
    found: dict[str, Place] = {}
    reached: dict[int, float] = {}
    for note in music.notes:
        beat = music.bar_at(note.onset_quarters).beat_quarters
        rest = note.onset_quarters - reached.get(note.staff, note.onset_quarters)
        reached[note.staff] = max(reached.get(note.staff, 0.0), note.onset_quarters + note.duration_quarters)
        found[note.id] = Place(
            bar=note.bar,
            after_rest=rest >= REST_BEATS * beat,
            at_seam=seam is not None and abs(note.onset_quarters - seam) <= SEAM_BEATS * beat + 1e-6,
            like=patterns.get(note.bar, ""),
        )
    return found


def tries_of(state: State, stone: Stone, since: datetime | None) -> list[Try]:
    """Attempts at a stone that had an outcome, and at its sides where it is a join; of its own only those after ``since``."""
    wanted = {stone.name, *(stone.sides if stone.kind is Kind.JOIN else ())}
    found = []
    for attempt in state.attempts:
        own = attempt.stone == stone.name
        elsewhere = attempt.remedy is not None and not attempt.remedy.finds_out
        if attempt.stone not in wanted or elsewhere or attempt.counts_as not in (Outcome.CLEAN, Outcome.FAULT):
            continue
        if own and since is not None and attempt.made_at <= since:
            continue
        found.append(Try(tempo=attempt.tempo, failed=tuple(failed_at(attempt)), joined=stone.kind is Kind.JOIN and own))
    return found


def failed_at(attempt: Attempt) -> list[str]:
    """Ids of the notes that were wrong or missed; where the fault is another one, or the helper heard it, its bar stands for them."""
    if attempt.counts_as is not Outcome.FAULT:
        return []
    return [note for note, _ in attempt.at_fault] or [worded("bar {bar}", bar=attempt.bar or attempt.stone)]


def carried_over(state: State, stone: Stone, music: Expectation) -> list[str]:
    """Ids of notes in place of which the like bar's note sounded, once for each time."""
    task = state.task
    part = read_part(task.passage.revision_id, task.passage.part)
    written = {note.id: note for note in part.notes}
    patterns = {found.bar: found for found in likenesses(part) if found.trap}
    found = []
    for attempt in state.attempts:
        if attempt.stone != stone.name or attempt.remedy_id:
            continue
        for note_id, heard in attempt.at_fault:
            note = written.get(note_id)
            pattern = patterns.get(note.bar_index) if note else None
            if note is None or pattern is None or heard is None:
                continue
            there = [n for n in part.notes if n.bar_index == pattern.pattern and abs(n.onset_quarters - note.onset_quarters) < 1e-6]
            if any(n.sounding_midi + pattern.semitones == heard for n in there):
                found.append(note_id)
    return found


def causes_of_practice(state: State) -> list[Cause]:
    """What may be behind the notes that keep failing in this task's practice, from the score; attempts at stones that are no more count
    for nothing.
    """
    task = state.task
    notes: dict[str, frozenset[str]] = {}
    tries = []
    for attempt in state.attempts:
        stone = state.stone(attempt.stone)
        if stone is None or attempt.remedy_id or attempt.by_hand or attempt.counts_as not in (Outcome.CLEAN, Outcome.FAULT):
            continue
        if stone.name not in notes:
            notes[stone.name] = frozenset(note.id for note in music_of_stone(task, stone).notes)
        tries.append(Tried(played=notes[stone.name], at_fault=dict(attempt.at_fault)))
    if not any(one.at_fault for one in tries):
        return []
    part = read_part(task.passage.revision_id, task.passage.part)
    return causes_in_practice(part, expectation_of_passage(task.passage), tries, task.targets)
