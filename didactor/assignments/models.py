"""What a teacher asks for: a passage with targets, and one task for each student."""

from __future__ import annotations

from datetime import datetime

from django.db import models
from django.utils import timezone

from didactor.assignments.querysets import AssignmentQuerySet, TaskQuerySet
from didactor.core.judging.registry import CATEGORIES
from didactor.core.judging.stages import BY_SLUG, STAGES
from didactor.core.judging.targets import Targets
from didactor.core.units import BEAT_UNIT_QUARTERS, beats_to_quarters_per_minute
from didactor.library.models import Passage
from didactor.people.models import Enrolment, Person, Studio

BEAT_UNITS = {
    "quarter": "quarter",
    "dotted_quarter": "dotted quarter",
    "half": "half",
    "eighth": "eighth",
    "dotted_half": "dotted half",
}
CATEGORY_TITLES = {
    "notes": "Notes",
    "intonation": "Intonation",
    "rhythm": "Rhythm and pulse",
    "tempo": "Tempo",
    "flow": "Keeping going",
    "dynamics": "Dynamics",
    "articulation": "Articulation",
    "tone": "Tone",
    "hands": "Hands and posture",
    "expression": "Expression",
    "other": "Something else",
}
#: What is done with the passage; each is heard by a method of its own.
STEP_TITLES = {
    "play": "Play it",
    "clap": "Clap or tap the rhythm",
    "chords": "Strum the chords",
    "pulse": "Keep the pulse; notes are not judged",
}
#: What a student listens for when the teacher does not choose otherwise.
FULL_CHECKLIST = ["notes", "intonation", "rhythm", "tempo", "dynamics", "articulation", "tone", "hands", "expression", "other"]


class StudentSees(models.TextChoices):
    REMARKS = "remarks", "Remarks only"
    MARKS = "marks", "Marks on the score"
    FIGURES = "figures", "Marks and figures"


class Assignment(models.Model):
    """A passage with its targets, given to students on one day."""

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="assignments")
    teacher = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="assignments_given")
    passage = models.ForeignKey(Passage, on_delete=models.PROTECT, related_name="assignments")
    title = models.CharField(max_length=200)
    instructions = models.TextField(blank=True)
    due_at = models.DateTimeField()
    beat_unit = models.CharField(max_length=20, choices=list(BEAT_UNITS.items()), default="quarter")
    tempo = models.FloatField(help_text="Beats per minute.")
    tempo_to = models.FloatField(null=True, blank=True)
    band_percent = models.FloatField()
    step = models.CharField(max_length=10, choices=list(STEP_TITLES.items()), default="play")
    stage = models.CharField(max_length=20, choices=[(s.slug, s.title) for s in STAGES], default="at_tempo")
    count_off = models.PositiveSmallIntegerField(default=4)
    takes_allowed = models.PositiveSmallIntegerField(null=True, blank=True)
    checklist = models.JSONField(default=list)
    listen_first = models.BooleanField(default=True)
    students_see = models.CharField(max_length=10, choices=StudentSees.choices, default=StudentSees.MARKS)
    created_at = models.DateTimeField(auto_now_add=True)

    objects = AssignmentQuerySet.as_manager()

    class Meta:
        ordering = ["-due_at", "-created_at"]

    def __str__(self) -> str:
        return self.title

    @property
    def stage_entry(self) -> object:
        return BY_SLUG[self.stage]

    @property
    def tempo_in_words(self) -> str:
        upper = f"–{self.tempo_to:g}" if self.tempo_to else ""
        return f"{BEAT_UNITS[self.beat_unit]} = {self.tempo:g}{upper}"

    @property
    def tempo_qpm(self) -> float:
        return beats_to_quarters_per_minute(self.tempo, self.beat_unit)

    @property
    def beat_unit_quarters(self) -> float:
        return BEAT_UNIT_QUARTERS[self.beat_unit]

    @property
    def checklist_entries(self) -> list[tuple[str, str]]:
        return [(slug, CATEGORY_TITLES[slug]) for slug in self.checklist if slug in CATEGORIES]

    def targets_for(self, instrument: str, passage: Passage, own_tempo: float | None = None) -> Targets:
        """The targets as the core takes them; ``own_tempo`` replaces the assignment's. Raises ``PassageError`` for values without sense."""
        upper = beats_to_quarters_per_minute(self.tempo_to, self.beat_unit) if self.tempo_to and own_tempo is None else None
        return Targets(
            tempo_qpm=self.tempo_qpm if own_tempo is None else beats_to_quarters_per_minute(own_tempo, self.beat_unit),
            tempo_to_qpm=upper,
            band_percent=self.band_percent,
            stage=self.stage,
            count_off=self.count_off,
            instrument=instrument,
            bars=passage.bars,
            order=passage.order or None,
            beat_unit=self.beat_unit,
            step=self.step,
        )


class TaskState(models.TextChoices):
    OPEN = "open", "To do"
    IN_WORK = "in_work", "Being worked on"
    HANDED_IN = "handed_in", "Handed in"
    ANSWERED = "answered", "Answered"
    PASSED = "passed", "Passed"


class Task(models.Model):
    """One student's share of an assignment, and how far it has come.

    ``passage`` is what this student reads: the assignment's own, or its arrangement for their instrument. ``tempo`` and
    ``own_due_at`` are exceptions for this student alone.
    """

    assignment = models.ForeignKey(Assignment, on_delete=models.CASCADE, related_name="tasks")
    enrolment = models.ForeignKey(Enrolment, on_delete=models.PROTECT, related_name="tasks")
    passage = models.ForeignKey(Passage, on_delete=models.PROTECT, related_name="tasks")
    tempo = models.FloatField(null=True, blank=True)
    own_due_at = models.DateTimeField(null=True, blank=True)
    state = models.CharField(max_length=10, choices=TaskState.choices, default=TaskState.OPEN)

    objects = TaskQuerySet.as_manager()

    class Meta:
        ordering = ["assignment__due_at", "pk"]
        constraints = [models.UniqueConstraint(fields=["assignment", "enrolment"], name="one_task_per_student")]

    def __str__(self) -> str:
        return f"{self.assignment}: {self.enrolment.student}"

    @property
    def student(self) -> Person:
        return self.enrolment.student

    @property
    def due_at(self) -> datetime:
        return self.own_due_at or self.assignment.due_at

    @property
    def tempo_in_words(self) -> str:
        if self.tempo is None:
            return self.assignment.tempo_in_words
        return f"{BEAT_UNITS[self.assignment.beat_unit]} = {self.tempo:g}"

    @property
    def targets(self) -> Targets:
        """What this student's takes are judged against. Raises ``PassageError`` for values that make no sense."""
        return self.assignment.targets_for(self.enrolment.instrument, self.passage, self.tempo)

    @property
    def is_late(self) -> bool:
        return self.state in (TaskState.OPEN, TaskState.IN_WORK) and timezone.now() > self.due_at
