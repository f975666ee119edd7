"""Lines that a student reads at sight by themselves: the next one at any time, as hard as the last ones say."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from didactor.assignments.models import Assignment, Task
from didactor.assignments.services import assign, usual_beat
from didactor.core.formats.result import Result
from didactor.core.hearing.hearing import Status
from didactor.core.instruments import find_instrument
from didactor.core.judging.stages import BY_SLUG
from didactor.core.planning.staircase import LineRead, is_playable, level_of, next_grade
from didactor.core.score.generate.graded import GRADES, TROUBLES, graded_line
from didactor.core.units import quarters_to_beats_per_minute
from didactor.core.words import worded
from didactor.library.exercises import keep
from didactor.library.models import Piece
from didactor.people.models import Enrolment, Person, Role
from didactor.takes.models import Take, TakeState

#: What is thought of a reader before any line, by the level at which the teacher has them.
STARTS = {"beginner": 1.5, "elementary": 4.0, "intermediate": 7.0, "advanced": 9.5}
#: Seconds to prepare, and how many lines are looked at.
PREPARATION_S, LINES_SHOWN, LINES_COUNTED = 60, 40, 20
CHECKLIST = ["flow", "notes", "rhythm", "tempo"]
#: From so many takes on a trouble is one that comes back.
TAKES_LOOKED_AT = 10


class ReadingRefused(Exception):
    """No line can be read now; the words say why."""


@dataclass(frozen=True, kw_only=True)
class Read:
    """A line that was read: ``right`` of ``notes`` were right, with so many ``stops``."""

    task: Task
    at: datetime
    grade: int
    right: int
    notes: int
    stops: int

    @property
    def playable(self) -> bool:
        return is_playable(self.right / max(1, self.notes), self.stops)

    @property
    def in_words(self) -> str:
        stops = {0: worded("without a stop"), 1: worded("one stop")}.get(self.stops, worded("{stops} stops", stops=self.stops))
        return worded("{right} of {notes} notes, {stops}", right=self.right, notes=self.notes, stops=stops)


@dataclass(frozen=True, kw_only=True)
class Reading:
    """``lines``: those that were read, the newest first; ``waiting``: one that was made and not read yet."""

    lines: tuple[Read, ...]
    waiting: Task | None
    grade: int
    of: int = len(GRADES)

    @property
    def weeks(self) -> list[tuple[datetime, float, int, int]]:
        """Week by week, the newest first: its first day, the mean grade, lines that were playable and lines read."""
        weeks: dict[datetime, list[Read]] = {}
        for line in self.lines:
            monday = (line.at - timedelta(days=line.at.weekday())).replace(hour=0, minute=0, second=0, microsecond=0)
            weeks.setdefault(monday, []).append(line)
        return [(day, sum(x.grade for x in own) / len(own), sum(x.playable for x in own), len(own)) for day, own in weeks.items()]


def reading_of(enrolment: Enrolment) -> Reading:
    """What a student has read at sight by themselves."""
    tasks = list(
        Task.objects.filter(enrolment=enrolment, assignment__own_grade__isnull=False)
        .for_lists()
        .prefetch_related("takes__analyses")
        .order_by("-assignment__created_at")[:LINES_SHOWN]
    )
    lines = [read for task in tasks if (read := _read(task)) is not None]
    waiting = next((task for task in tasks if not task.takes.all()), None)
    return Reading(lines=tuple(lines), waiting=waiting, grade=_next_grade(enrolment, lines))


def _read(task: Task) -> Read | None:
    take: Take | None = next((t for t in task.takes.all() if t.state == TakeState.ANALYSED and t.heard is not None), None)
    result: Result | None = take.heard if take else None
    if take is None or result is None or not result.notes:
        return None
    right = sum(note.status is Status.CORRECT for note in result.notes)
    stops = len(result.pulse.hesitations) + len(result.pulse.restarts) if result.pulse else 0
    at = timezone.localtime(take.created_at)
    return Read(task=task, at=at, grade=task.assignment.own_grade or 1, right=right, notes=len(result.notes), stops=stops)


def _next_grade(enrolment: Enrolment, lines: Sequence[Read]) -> int:
    read = [LineRead(grade=line.grade, playable=line.playable) for line in reversed(lines[:LINES_COUNTED])]
    return next_grade(read, STARTS.get(enrolment.level, 3.0))


def level_in_words(reading: Reading, enrolment: Enrolment) -> str:
    """“about grade 4.2 of 12”; nothing before three lines."""
    if len(reading.lines) < 3:
        return ""
    read = [LineRead(grade=line.grade, playable=line.playable) for line in reversed(reading.lines[:LINES_COUNTED])]
    return worded("about grade {level_of:.1f} of {of}", level_of=level_of(read, STARTS.get(enrolment.level, 3.0)), of=reading.of)


def trouble_of(enrolment: Enrolment) -> str:
    """What this student's takes show most often of what lines can have more of; nothing where there is none."""
    takes = Take.objects.filter(task__enrolment=enrolment, state=TakeState.ANALYSED).prefetch_related("analyses").order_by("-created_at")
    found: Counter[str] = Counter()
    for take in takes[:TAKES_LOOKED_AT]:
        for finding in (take.heard.findings if take.heard else None) or ():
            if finding.category in TROUBLES:
                found[finding.category] += 1
    return found.most_common(1)[0][0] if found else ""


@transaction.atomic
def new_line(*, student: Person, enrolment: Enrolment) -> Task:
    """The next line nobody has seen; one that waits to be read is that one. Raises ``ReadingRefused``, ``CoreError``."""
    Enrolment.objects.select_for_update().get(pk=enrolment.pk)
    if enrolment.student_id != student.pk:
        raise ReadingRefused(worded("Only the student reads for this instrument."))
    if not enrolment.reads_notes:
        raise ReadingRefused(worded("Lines to read are for those who read notes."))
    instrument = find_instrument(enrolment.instrument)
    if not instrument.pitched:
        raise ReadingRefused(worded("There are no lines for this instrument yet: it has no pitches."))
    reading = reading_of(enrolment)
    if reading.waiting is not None:
        return reading.waiting
    teacher = Person.objects.filter(studio=student.studio, role=Role.TEACHER, is_active=True).order_by("pk").first()
    if teacher is None:
        raise ReadingRefused(worded("Your studio has no teacher."))
    count = Assignment.objects.filter(tasks__enrolment=enrolment, own_grade__isnull=False).count()
    kind, choices, qpm = graded_line(
        reading.grade, 1000 * enrolment.pk + count, hands=2 if instrument.staves > 1 else 1, trouble=trouble_of(enrolment)
    )
    passage = keep(teacher=teacher, kind=kind, choices=choices)
    # It is nobody's material: it does not lie about in the library.
    Piece.objects.filter(pk=passage.revision.piece_id).update(is_put_away=True)
    unit, count_off = usual_beat(passage)
    stage = BY_SLUG["sight_reading"]
    fields = {
        "title": worded("Line {count} at sight", count=count + 1),
        "due_at": timezone.now() + timedelta(days=1),
        "tempo": float(round(quarters_to_beats_per_minute(qpm, unit))),
        "beat_unit": unit,
        "stage": stage.slug,
        "band_percent": stage.band_percent,
        "count_off": count_off,
        "takes_allowed": 1,
        "preparation_s": PREPARATION_S,
        "checklist": CHECKLIST,
        "listen_first": False,
        "own_grade": reading.grade,
    }
    return assign(teacher=teacher, passage=passage, enrolments=[enrolment], fields=fields).tasks.get()
