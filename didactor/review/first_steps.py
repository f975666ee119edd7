"""What a new studio does first, from nothing to the first passage on somebody's stand."""

from __future__ import annotations

from dataclasses import dataclass

from django.urls import reverse

from didactor.assignments.models import Assignment
from didactor.core.words import worded
from didactor.library.models import Piece
from didactor.people.models import Person, Role


@dataclass(frozen=True, kw_only=True)
class Step:
    words: str
    more: str
    url: str
    done: bool


def first_steps(teacher: Person) -> list[Step]:
    """In their order; none once something was assigned."""
    studio = teacher.studio
    assert studio is not None
    if Assignment.objects.filter(studio=studio).exists():
        return []
    piece = Piece.objects.filter(studio=studio).order_by("-pk").first()
    students = studio.people.filter(role=Role.STUDENT).exists()
    return [
        Step(
            words=worded("Bring in a score"),
            more=worded("MusicXML, MIDI, ABC or a chord sheet; a line can also be typed, or stand in a printed book."),
            url=reverse("library:index"),
            done=piece is not None,
        ),
        Step(
            words=worded("Add a student"),
            more=worded("They sign in with a card that you print or send."),
            url=reverse("people:add_student"),
            done=students,
        ),
        Step(
            words=worded("Choose bars and give them"),
            more=worded("Drag over the bars in the score, say how fast and until when."),
            url=reverse("library:piece", args=[piece.pk]) if piece else reverse("library:index"),
            done=False,
        ),
    ]
