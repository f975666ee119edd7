from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from django.db import transaction

from didactor.assignments.models import Assignment, Task, TaskState
from didactor.core.errors import PassageError
from didactor.library.models import Passage
from didactor.library.services import expectation_of, want_model_sounds
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
def assign(*, teacher: Person, passage: Passage, enrolments: Iterable[Enrolment], fields: dict[str, Any]) -> Assignment:
    """Give a passage to students: one task each, and models to practise with in the queue.

    Raises:
        PassageError: nobody chosen, or targets that make no sense.
    """
    chosen = list(enrolments)
    if not chosen:
        raise PassageError("assignment.nobody", "Choose at least one student.")
    if fields.get("step") == "chords" and not _has_chords(passage):
        raise PassageError("assignment.no_chords", "There are no chord symbols over these bars, so there is nothing to strum from.")
    assignment = Assignment.objects.create(studio=teacher.studio, teacher=teacher, passage=passage, **fields)
    for enrolment in chosen:
        assignment.targets_for(enrolment.instrument)
        Task.objects.create(assignment=assignment, enrolment=enrolment)
    for instrument in {e.instrument for e in chosen}:
        want_model_sounds(passage=passage, instrument=instrument, tempo_qpm=assignment.tempo_qpm, count_off=assignment.count_off)
    return assignment


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
    assignment, passage = task.assignment, task.assignment.passage
    return {
        "revision_id": passage.revision_id,
        "passage_id": passage.pk,
        "part": passage.part,
        "bars": passage.bars,
        "order": passage.order,
        "beat_unit": assignment.beat_unit,
        "targets": assignment.targets_for(task.enrolment.instrument).to_json(),
    }
