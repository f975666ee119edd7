"""A series of check-offs as a grid."""

from __future__ import annotations

from dataclasses import dataclass

from didactor.assignments.models import Assignment, Task
from didactor.people.models import Enrolment


@dataclass(frozen=True, kw_only=True)
class Grid:
    """Check-offs across (by date), students down; a cell is their task, None where they were not given it."""

    assignments: tuple[Assignment, ...]
    rows: tuple[tuple[Enrolment, tuple[Task | None, ...], int], ...]


def grid_of(assignments: list[Assignment]) -> Grid:
    """Each row: who, their tasks, how many of them are passed."""
    by_person: dict[int, dict[int, Task]] = {}
    people: dict[int, Enrolment] = {}
    for assignment in assignments:
        for task in assignment.tasks.all():
            people[task.enrolment_id] = task.enrolment
            by_person.setdefault(task.enrolment_id, {})[assignment.pk] = task
    rows = []
    for pk, enrolment in sorted(people.items(), key=lambda item: item[1].student.name):
        cells = tuple(by_person[pk].get(a.pk) for a in assignments)
        rows.append((enrolment, cells, sum(task is not None and task.state == "passed" for task in cells)))
    return Grid(assignments=tuple(assignments), rows=tuple(rows))
