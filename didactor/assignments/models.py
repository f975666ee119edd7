"""What a teacher asks for: a passage with targets, and one task for each student."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.utils import timezone
from django.utils.formats import date_format

from didactor.assignments.checklists import rows_of
from didactor.assignments.querysets import AssignmentQuerySet, SlotQuerySet, TaskQuerySet, WeekNoteQuerySet
from didactor.core.judging.stages import BY_SLUG, STAGES
from didactor.core.judging.targets import Targets
from didactor.core.planning.tempi import rungs
from didactor.core.steps import Step, goal, steps_to
from didactor.core.units import BEAT_UNIT_NAMES, BEAT_UNIT_QUARTERS, beats_to_quarters_per_minute
from didactor.core.words import _, listed, worded
from didactor.library.models import Passage
from didactor.library.said import is_film
from didactor.people.models import Enrolment, Group, Person, Studio

BEAT_UNITS = {unit: BEAT_UNIT_NAMES[unit] for unit in ("quarter", "dotted_quarter", "half", "eighth", "dotted_half")}
#: What a student listens for when the teacher does not choose otherwise.
FULL_CHECKLIST = ["notes", "intonation", "rhythm", "tempo", "dynamics", "articulation", "tone", "hands", "expression", "other"]


class StudentSees(models.TextChoices):
    REMARKS = "remarks", _("Remarks only")
    MARKS = "marks", _("Marks on the score")
    FIGURES = "figures", _("Marks and figures")


class Metronome(models.TextChoices):
    ALLOWED = "allowed", _("May sound")
    REQUIRED = "required", _("Must sound")
    SILENT = "silent", _("Must not sound")


#: What a recording may have to show; nothing: sound alone.
MUST_SHOW = {"instrument": _("the whole instrument"), "hands": _("both hands"), "face": _("the face"), "posture": _("the posture")}


class FindOut(models.TextChoices):
    """Whether what is to be found in the notes is asked before it is told."""

    BY_STAGE = "stage", _("As the stage has it: in first reading and sight-reading")
    YES = "yes", _("The student looks first")
    NO = "no", _("Everything is open from the start")


class Series(models.Model):
    """Check-offs that belong together, each an assignment with its own date: five scales by the end of term."""

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="series")
    title = models.CharField(max_length=120)
    in_order = models.BooleanField(default=False, help_text="Each opens when the one before it is passed.")

    class Meta:
        ordering = ["title"]
        constraints = [models.UniqueConstraint(fields=["studio", "title"], name="series_once_per_studio")]

    def __str__(self) -> str:
        return self.title


class Template(models.Model):
    """Targets and checklist kept under a name, to begin the next assignment with."""

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="templates")
    title = models.CharField(max_length=80)
    fields = models.JSONField()

    class Meta:
        ordering = ["title"]
        constraints = [models.UniqueConstraint(fields=["studio", "title"], name="template_once_per_studio")]

    def __str__(self) -> str:
        return self.title


class WeekNote(models.Model):
    """A few words to a group, or to everybody, for one week; ``monday`` says which."""

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="week_notes")
    group = models.ForeignKey(Group, on_delete=models.CASCADE, null=True, blank=True, related_name="week_notes")
    monday = models.DateField()
    text = models.TextField(blank=True)
    said = models.FileField(upload_to="said/%Y/%m/", blank=True, help_text="Said or filmed, with the words or without.")
    written_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")

    objects = WeekNoteQuerySet.as_manager()

    @property
    def said_is_film(self) -> bool:
        return is_film(str(self.said.name or ""))

    class Meta:
        ordering = ["-monday", "group__name"]
        constraints = [
            models.UniqueConstraint(fields=["studio", "group", "monday"], name="one_note_per_group_and_week", nulls_distinct=False)
        ]


class Slot(models.Model):
    """A time at which a teacher can be played to live; ``group`` None: for everybody. ``enrolment``: who has chosen it."""

    teacher = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="slots")
    group = models.ForeignKey(Group, on_delete=models.CASCADE, null=True, blank=True, related_name="slots")
    starts_at = models.DateTimeField()
    minutes = models.PositiveSmallIntegerField()
    enrolment = models.ForeignKey(Enrolment, on_delete=models.SET_NULL, null=True, blank=True, related_name="slots")

    objects = SlotQuerySet.as_manager()

    class Meta:
        ordering = ["starts_at"]
        constraints = [models.UniqueConstraint(fields=["teacher", "starts_at"], name="one_time_once")]

    def __str__(self) -> str:
        return worded(
            "{time}, {minutes} minutes", time=date_format(timezone.localtime(self.starts_at), worded("D j M, H:i")), minutes=self.minutes
        )

    @property
    def ends_at(self) -> datetime:
        return self.starts_at + timedelta(minutes=self.minutes)


class Assignment(models.Model):
    """A passage with its targets, given to students on one day.

    It may be changed after takes came in; what they were judged against is frozen with them. ``version`` goes up with each change.
    ``before_steps`` come first on the same bars; ``ladder`` are tempi on the way to the target, reckoned where it is empty;
    ``preparation_s`` keeps the passage sealed until the student starts the clock. ``own_rows`` are the checklist's rows in the teacher's
    words; ``with_pictures``: the student gets a short list with pictures.
    """

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="assignments")
    teacher = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="assignments_given")
    passage = models.ForeignKey(Passage, on_delete=models.PROTECT, related_name="assignments")
    title = models.CharField(max_length=200)
    instructions = models.TextField(blank=True)
    due_at = models.DateTimeField()
    beat_unit = models.CharField(max_length=20, choices=list(BEAT_UNITS.items()), default="quarter")
    tempo = models.FloatField(help_text="Beats per minute.")
    tempo_to = models.FloatField(null=True, blank=True)
    fast_tempo = models.PositiveSmallIntegerField(null=True, blank=True, help_text="A second tier for who wants it; the first one passes.")
    band_percent = models.FloatField()
    step = models.CharField(max_length=10, default="play")
    stage = models.CharField(max_length=20, choices=[(s.slug, s.title) for s in STAGES], default="at_tempo")
    count_off = models.PositiveSmallIntegerField(default=4)
    takes_allowed = models.PositiveSmallIntegerField(null=True, blank=True)
    checklist = models.JSONField(default=list)
    own_rows = ArrayField(
        models.CharField(max_length=60), default=list, blank=True, help_text="Rows of the checklist in the teacher's words."
    )
    own_row_figures = models.JSONField(default=dict, blank=True, help_text="Which figure checks a row of the teacher's: its words, a slug.")
    with_pictures = models.BooleanField(default=False, help_text="The student gets a short checklist with pictures.")
    listen_first = models.BooleanField(default=True)
    students_see = models.CharField(max_length=10, choices=StudentSees.choices, default=StudentSees.MARKS)
    before_steps = models.JSONField(default=list, blank=True)
    ritardando_beats = models.FloatField(default=0.0)
    metronome = models.CharField(max_length=10, choices=Metronome.choices, default=Metronome.ALLOWED)
    must_show = models.JSONField(default=list, blank=True)
    preparation_s = models.PositiveIntegerField(null=True, blank=True)
    question = models.TextField(blank=True)
    ladder = ArrayField(models.FloatField(), default=list, blank=True)
    find_out = models.CharField(max_length=5, choices=FindOut.choices, default=FindOut.BY_STAGE)
    aids_open = models.BooleanField(default=False, help_text="The study sheet is open while the preparation clock runs.")
    minutes = models.PositiveSmallIntegerField(null=True, blank=True, help_text="A day.")
    place = models.PositiveSmallIntegerField(null=True, blank=True, help_text="On the stand: 1 comes first.")
    to_the_end = models.BooleanField(default=False, help_text="A take is handed in after it was played to its end.")
    first_kept = models.BooleanField(default=False, help_text="The first take is kept beside the one that is handed in.")
    crossing = models.JSONField(default=dict, blank=True, help_text="What the teacher set of its practice; see crossing.py.")
    own_grade = models.PositiveSmallIntegerField(
        null=True, blank=True, help_text="Of a line that a student reads at sight by themselves: how hard it is. Nothing is handed in."
    )
    spoken = models.FileField(upload_to="spoken/%Y/%m/", blank=True)
    leads_to = models.ForeignKey(
        "Task", on_delete=models.SET_NULL, null=True, blank=True, related_name="ways", help_text="The task that it is a way to."
    )
    rehearses = models.OneToOneField(
        "self", on_delete=models.CASCADE, null=True, blank=True, related_name="rehearsal", help_text="The final that it hangs before."
    )
    series = models.ForeignKey(Series, on_delete=models.SET_NULL, null=True, blank=True, related_name="assignments")
    version = models.PositiveIntegerField(default=1)
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
    def steps(self) -> list[Step]:
        """All steps in order, the goal last."""
        return steps_to(self.before_steps, self.step)

    @property
    def step_title(self) -> str:
        return goal(self.step).title

    @property
    def is_listening(self) -> bool:
        return self.step == "listen"

    @property
    def must_show_in_words(self) -> str:
        return listed([MUST_SHOW[slug] for slug in self.must_show if slug in MUST_SHOW])

    @property
    def checklist_entries(self) -> list[tuple[str, str]]:
        return rows_of(self.checklist, self.own_rows)

    @property
    def student_entries(self) -> list[tuple[str, str]]:
        """The checklist as the student has it: with pictures it is a short one."""
        return rows_of(self.checklist, self.own_rows, self.with_pictures)

    def targets_for(self, instrument: str, passage: Passage, own_tempo: float | None = None, step: Step | None = None) -> Targets:
        """The targets as the core takes them; ``own_tempo`` replaces the assignment's, ``step`` is one on the way.

        Raises ``PassageError`` for values without sense.
        """
        step = step or goal(self.step)
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
            step=step.ear or "pulse",
            # An arrangement for one voice has one staff: there is no hand to leave out.
            staff=step.staff if passage.part_entry["staves"] > 1 else None,
            ritardando_quarters=self.ritardando_beats * self.beat_unit_quarters,
        )


class TaskState(models.TextChoices):
    OPEN = "open", _("To do")
    IN_WORK = "in_work", _("Being worked on")
    HANDED_IN = "handed_in", _("Handed in")
    ANSWERED = "answered", _("Answered")
    PASSED = "passed", _("Passed")


class Task(models.Model):
    """One student's share of an assignment, and how far it has come.

    ``passage`` is what this student reads: the assignment's own, or its arrangement for their instrument. ``tempo`` and
    ``own_due_at`` are exceptions for this student alone. ``opened_at`` is when a sealed passage was opened; ``answer`` is what they
    wrote to a question about what they heard, ``reply`` what the teacher wrote back and ``reply_sound`` what they said or played.
    ``takes_spent`` counts the takes that were heard, whatever was deleted since. ``withdrawn_at``: nothing more is expected; what was
    handed in stays, the rest is hidden from the student until it is given again.
    """

    assignment = models.ForeignKey(Assignment, on_delete=models.CASCADE, related_name="tasks")
    enrolment = models.ForeignKey(Enrolment, on_delete=models.PROTECT, related_name="tasks")
    passage = models.ForeignKey(Passage, on_delete=models.PROTECT, related_name="tasks")
    tempo = models.FloatField(null=True, blank=True)
    own_due_at = models.DateTimeField(null=True, blank=True)
    state = models.CharField(max_length=10, choices=TaskState.choices, default=TaskState.OPEN)
    opened_at = models.DateTimeField(null=True, blank=True)
    steps_done = models.JSONField(default=list, blank=True)
    answer = models.TextField(blank=True)
    answered_at = models.DateTimeField(null=True, blank=True)
    reply = models.TextField(blank=True)
    reply_sound = models.FileField(upload_to="replies/%Y/%m/", blank=True)
    takes_spent = models.PositiveIntegerField(default=0)
    withdrawn_at = models.DateTimeField(null=True, blank=True)

    objects = TaskQuerySet.as_manager()

    class Meta:
        ordering = ["assignment__due_at", "pk"]
        indexes = [
            models.Index(fields=["answered_at"], name="answers_that_wait", condition=models.Q(state="handed_in", answered_at__isnull=False))
        ]
        constraints = [models.UniqueConstraint(fields=["assignment", "enrolment"], name="one_task_per_student")]

    def __str__(self) -> str:
        return f"{self.assignment}: {self.enrolment.student}"

    @property
    def steps(self) -> list[Step]:
        """The assignment's steps as far as this student's part has them: on one staff there is no hand to play alone."""
        hands = self.passage.part_entry["staves"] > 1
        return [step for step in self.assignment.steps if hands or step.staff is None or step.slug == self.assignment.step]

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

    def targets_of_step(self, step: Step) -> Targets:
        return self.assignment.targets_for(self.enrolment.instrument, self.passage, self.tempo, step)

    @property
    def tempo_is_free(self) -> bool:
        """Whether the student chooses the tempo of a take."""
        return BY_SLUG[self.assignment.stage].own_tempo and not self.assignment.is_listening

    @property
    def asked_tempo(self) -> float:
        """Beats per minute, this student's own where there is an exception."""
        return self.tempo or self.assignment.tempo

    @property
    def tempi(self) -> list[int]:
        """The tempi at which it can be heard, and recorded where that is free."""
        fast = {self.fast_tempo} if self.fast_tempo else set()
        return sorted({*rungs(self.asked_tempo, self.assignment.ladder), *fast})

    @property
    def fast_tempo(self) -> int | None:
        """The tempo of the fast tier, which the student may choose; None where there is none, or nothing above what is asked."""
        fast = self.assignment.fast_tempo
        return fast if fast and fast > self.asked_tempo else None

    @property
    def is_read_at_sight(self) -> bool:
        """Whether the music may be seen, but not heard, before it is played."""
        return self.assignment.preparation_s is not None

    @property
    def is_sealed(self) -> bool:
        """Whether the student has not started the preparation clock yet: nothing of the music is shown."""
        return self.is_read_at_sight and self.opened_at is None

    @property
    def waits_for(self) -> Task | None:
        """What has to be passed before this one opens, in a series with an order, or handed in: the dress rehearsal of a final. None
        for one that is open.
        """
        if self.state not in (TaskState.OPEN, TaskState.IN_WORK):
            return None
        rehearsal: Task | None = Task.objects.rehearsal_before(self).first() if self.assignment.stage == "final" else None
        if rehearsal is not None:
            return rehearsal
        series = self.assignment.series
        if series is None or not series.in_order:
            return None
        earlier: Task | None = Task.objects.not_passed_before(self).first()
        return earlier

    @property
    def opens_next(self) -> str:
        """When what waits for this one opens, in words."""
        return (
            worded("This opens when “{assignment}” is handed in.", assignment=self.assignment)
            if self.assignment.rehearses_id
            else worded("This opens when “{assignment}” is passed.", assignment=self.assignment)
        )

    @property
    def finds_out(self) -> bool:
        """Whether the student is to look before being told: who reads notes, of music that is written out."""
        choice = self.assignment.find_out
        wanted = choice == FindOut.YES or (choice == FindOut.BY_STAGE and BY_SLUG[self.assignment.stage].find_out)
        return wanted and self.enrolment.reads_notes and not self.assignment.is_listening and self.passage.note_count > 0

    @property
    def has_found_out(self) -> bool:
        found: FoundOut | None = getattr(self, "found_out", None)
        return found is not None and found.done_at is not None

    @property
    def state_in_words(self) -> str:
        """“Handed in”, “To do, late”, “Withdrawn”, “Answered, withdrawn”."""
        if self.withdrawn_at is not None:
            return (
                worded("Withdrawn")
                if self.state in (TaskState.OPEN, TaskState.IN_WORK)
                else worded("{state}, withdrawn", state=self.get_state_display())
            )
        state = str(self.get_state_display())
        return worded("{state}, late", state=state) if self.is_late else state

    @property
    def is_late(self) -> bool:
        return self.state in (TaskState.OPEN, TaskState.IN_WORK) and self.withdrawn_at is None and timezone.now() > self.due_at


class FoundOut(models.Model):
    """What a student found in a passage before being told: when they began and ended to look, what they said, and how it was."""

    task = models.OneToOneField(Task, on_delete=models.CASCADE, related_name="found_out")
    begun_at = models.DateTimeField(default=timezone.now)
    done_at = models.DateTimeField(null=True)
    answers = models.JSONField(default=dict)
    result = models.JSONField(default=list)

    @property
    def seconds(self) -> int:
        """How long it took."""
        return int((self.done_at - self.begun_at).total_seconds()) if self.done_at else 0

    @property
    def found(self) -> int:
        return sum(entry["right"] is True for entry in self.result)
