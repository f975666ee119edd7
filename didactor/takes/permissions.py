"""Who may see what was heard in a take. Who may see the take at all is decided by ``TakeQuerySet.visible_to``."""

from __future__ import annotations

from dataclasses import dataclass

from didactor.assignments.models import StudentSees
from didactor.core.formats.result import Result
from didactor.people.models import Person
from didactor.takes.models import Take


@dataclass(frozen=True, kw_only=True)
class Sight:
    """What of a take a person sees now.

    ``opened``: what was heard is not held back until the student has listened. ``result``: what was heard, None where it is not shown.
    ``figures``: numbers as well as remarks and marks.
    """

    opened: bool
    result: Result | None
    figures: bool


def sight_of(take: Take, person: Person) -> Sight:
    """A teacher sees everything; a student listens first, where the teacher wants that, and then sees as much as the teacher chose."""
    result = take.heard
    if person.is_teacher:
        return Sight(opened=True, result=result, figures=True)
    sees = take.task.assignment.students_see
    opened = not take.waits_for_listening or take.is_answered
    shown = result if opened and sees != StudentSees.REMARKS else None
    return Sight(opened=opened, result=shown, figures=shown is not None and sees == StudentSees.FIGURES)
