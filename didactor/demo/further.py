"""What the demo's first pages can do without, and what takes minutes: the band's takes, and ten weeks of two students.

It is loaded while the site is used already, a take at a time; begun again it goes on where it was broken off.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

from django.utils import timezone

from didactor.assignments.models import FULL_CHECKLIST, Assignment, Task
from didactor.assignments.services import assign
from didactor.demo.past import BAND_TAKES, HISTORY, DemoPast
from didactor.demo.scenario import BAND, EXERCISES, STUDIO
from didactor.demo.takes import record
from didactor.library.models import Piece
from didactor.library.services import cut_passage
from didactor.people.models import ConsentKind, Enrolment, Person, Role
from didactor.people.services import record_consent
from didactor.takes.bands import TogetherRefused
from didactor.takes.jobs import put_takes_together
from didactor.takes.models import Take
from didactor.takes.services import begin_together


def load_further(say: Callable[[str], object]) -> None:
    """All that is not there yet."""
    teacher = Person.objects.filter(studio__name=STUDIO, role=Role.TEACHER).first()
    if teacher is None:
        return
    title = next(exercise.title for exercise in EXERCISES if exercise.group == BAND)
    for name, take in BAND_TAKES.items():
        task = Task.objects.filter(assignment__title=title, enrolment__student__name=name, assignment__studio=teacher.studio).first()
        if task is not None and not task.takes.filter(submission__isnull=False).exists():
            record(teacher, task, take, days_ago=0.5)
            say(f"    {name}: {title}")
    _together(teacher, title)
    for past in HISTORY:
        if not Assignment.objects.filter(studio=teacher.studio, title=past.title).exists():
            _weeks_ago(teacher, past)
            say(f"    {past.name}: {past.title}")


def _together(teacher: Person, title: str) -> None:
    """The band agrees to be heard together, and is."""
    assignment = Assignment.objects.filter(title=title, studio=teacher.studio).first()
    if assignment is None or assignment.together.exists():
        return
    takes = Take.objects.filter(task__assignment=assignment, submission__isnull=False).select_related("task__enrolment__student")
    for take in takes:
        if not take.task.student.has_consent(ConsentKind.TOGETHER):
            record_consent(student=take.task.student, given_by=take.task.student.name, recorded_by=teacher, kind=ConsentKind.TOGETHER)
    try:
        made = begin_together(assignment=assignment, teacher=teacher, takes=[take.pk for take in takes], tempo=assignment.tempo)
    except TogetherRefused:
        return
    put_takes_together(together_id=made.pk)


def _weeks_ago(teacher: Person, past: DemoPast) -> None:
    piece = Piece.objects.get(studio=teacher.studio, revisions__filename=f"{past.score}.musicxml")
    passage = cut_passage(teacher=teacher, revision=piece.current, part=1, bars=past.bars)
    enrolment = Enrolment.objects.get(student__name=past.name, student__studio=teacher.studio)
    then = timezone.now() - timedelta(weeks=past.weeks_ago)
    fields = {
        "title": past.title,
        "due_at": then + timedelta(days=2),
        "tempo": past.tempo,
        "beat_unit": past.beat_unit,
        "stage": "at_tempo",
        "band_percent": 5.0,
        "checklist": FULL_CHECKLIST,
    }
    assignment = assign(teacher=teacher, passage=passage, enrolments=[enrolment], fields=fields)
    task = assignment.tasks.get()
    record(teacher, task, past.take, days_ago=7.0 * past.weeks_ago)
    if not past.take.faults:
        return
    # What came of it is the next week's: it does not lie open on the stand.
    Task.objects.filter(pk=task.pk).update(withdrawn_at=then + timedelta(days=3))
