from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.db.models import Exists, OuterRef

from didactor.assignments.models import Assignment, Task, TaskState
from didactor.core.errors import PassageError
from didactor.library.arrangements import LEAVE_OUT, part_for, written_for
from didactor.library.jobs import engrave_parts
from didactor.library.models import Engraving, Passage
from didactor.library.services import ENGRAVER, expectation_of, want_model_sounds
from didactor.people.models import Enrolment, Person

#: Which states may follow which. A task that was answered may be worked on again; a passed one stays passed.
_FOLLOWS = {
    TaskState.OPEN: {TaskState.IN_WORK, TaskState.HANDED_IN},
    TaskState.IN_WORK: {TaskState.OPEN, TaskState.HANDED_IN},
    TaskState.HANDED_IN: {TaskState.ANSWERED, TaskState.PASSED, TaskState.IN_WORK},
    TaskState.ANSWERED: {TaskState.IN_WORK, TaskState.HANDED_IN},
    TaskState.PASSED: {TaskState.ANSWERED},
}


@transaction.atomic
def assign(
    *, teacher: Person, passage: Passage, enrolments: Iterable[Enrolment], fields: dict[str, Any], parts: Mapping[int, str] | None = None
) -> Assignment:
    """Give a passage to students: one task each in their own part, models to practise with in the queue.

    Args:
        parts: by enrolment, which offer of ``part_for`` was chosen, or ``LEAVE_OUT``; the best one for the rest.

    Raises:
        PassageError: nobody chosen, or targets that make no sense.
    """
    parts = parts or {}
    chosen = [e for e in enrolments if parts.get(e.pk) != LEAVE_OUT]
    if not chosen:
        raise PassageError("assignment.nobody", "Choose at least one student.")
    if passage.revision.piece.is_printed:
        fields = {**fields, "step": "pulse"}  # its notes are not known
    if fields.get("step") == "chords" and not _has_chords(passage):
        raise PassageError("assignment.no_chords", "There are no chord symbols over these bars, so there is nothing to strum from.")
    assignment = Assignment.objects.create(studio=teacher.studio, teacher=teacher, passage=passage, **fields)
    for enrolment in chosen:
        part = written_for(passage=passage, instrument=enrolment.instrument, offer=_offer_for(passage, enrolment, parts.get(enrolment.pk)))
        task = Task.objects.create(assignment=assignment, enrolment=enrolment, passage=part)
        if passage.revision.piece.is_printed:
            continue
        want_model_sounds(passage=part, instrument=enrolment.instrument, tempo_qpm=task.targets.tempo_qpm, count_off=assignment.count_off)
    waiting = {task.passage_id for task in assignment.tasks.all()} - {passage.pk}
    if waiting:
        engrave_parts.defer(passage_ids=sorted(waiting))
    return assignment


@dataclass(frozen=True, kw_only=True)
class PartsWritten:
    """How far the parts of an assignment are engraved."""

    done: int
    of: int

    @property
    def is_done(self) -> bool:
        return self.done >= self.of


def parts_written(assignment: Assignment) -> PartsWritten:
    """Distinct parts among an assignment's tasks, and how many of them are drawn already."""
    passages = Passage.objects.filter(tasks__assignment=assignment).distinct()
    drawn = Engraving.objects.filter(
        revision=OuterRef("revision"), part=OuterRef("part"), bars=OuterRef("bars"), version=ENGRAVER, layout="desk"
    )
    return PartsWritten(done=passages.filter(Exists(drawn)).count(), of=passages.count())


def _offer_for(passage: Passage, enrolment: Enrolment, wanted: str | None) -> str:
    """What was chosen, if it is on offer; else the best offer."""
    part = part_for(passage=passage, instrument=enrolment.instrument, level=enrolment.level)
    found = part.offer(wanted) if wanted else None
    return (found or part.offers[0]).value


def _has_chords(passage: Passage) -> bool:
    expected = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)
    return bool(expected.chords)


def move_task(task: Task, state: TaskState) -> None:
    """Change a task's state along the allowed ways; the same state again is no change."""
    if task.state == state:
        return
    if state not in _FOLLOWS[TaskState(task.state)]:
        raise ValueError(f"a task cannot go from {task.state} to {state}")
    task.state = state
    task.save(update_fields=["state"])


def frozen_basis(task: Task) -> dict[str, Any]:
    """What a take is judged against, as it stands now: goes into the take and does not change with the assignment."""
    assignment, passage = task.assignment, task.passage
    return {
        "revision_id": passage.revision_id,
        "passage_id": passage.pk,
        "part": passage.part,
        "bars": passage.bars,
        "order": passage.order,
        "beat_unit": assignment.beat_unit,
        "targets": task.targets.to_json(),
    }
