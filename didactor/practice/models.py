from __future__ import annotations

import uuid
from pathlib import Path

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.utils import timezone

from didactor.assignments.models import Task
from didactor.core.formats.plain import from_plain
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.remedies import FINDS_OUT, Exercise
from didactor.core.score.roadmap import bars_in_words
from didactor.core.words import _
from didactor.people.models import Enrolment
from didactor.practice.querysets import AttemptQuerySet
from didactor.web.words_field import WordsField


class OutcomeChoices(models.TextChoices):
    CLEAN = Outcome.CLEAN.value, _("Without a fault")
    FAULT = Outcome.FAULT.value, _("Not yet")
    UNSURE = Outcome.UNSURE.value, _("Could not be told")
    TRIAL = Outcome.TRIAL.value, _("Trial run")
    UNHEARD = Outcome.UNHEARD.value, _("Not yet heard")


class Remedy(models.Model):
    """An exercise that was proposed for what kept failing at a stone. It is done after its own count, or put aside."""

    task = models.ForeignKey(Task, on_delete=models.CASCADE, related_name="remedies")
    stone = models.CharField(max_length=40)
    kind = models.CharField(max_length=20, blank=True)
    note_id = models.CharField(max_length=120, blank=True)
    exercise = models.JSONField()
    made_at = models.DateTimeField(default=timezone.now)
    taken_at = models.DateTimeField(null=True)
    done_at = models.DateTimeField(null=True)
    put_aside_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["made_at"]

    def __str__(self) -> str:
        return self.as_exercise.title

    @property
    def as_exercise(self) -> Exercise:
        return from_plain(Exercise, self.exercise)

    @property
    def finds_out(self) -> bool:
        """Whether it is there to tell what kind of fault it is: its attempts say something of the stone itself."""
        return bool(self.exercise["means"] == FINDS_OUT)

    @property
    def is_open(self) -> bool:
        return self.done_at is None and self.put_aside_at is None


class Drill(models.Model):
    """A drill that somebody has begun: its kind, and which one of that kind it is in this task's passage."""

    task = models.ForeignKey(Task, on_delete=models.CASCADE, related_name="drills")
    kind = models.CharField(max_length=20)
    of = models.CharField(max_length=200)
    made_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["made_at"]
        constraints = [models.UniqueConstraint(fields=["task", "kind", "of"], name="one_row_a_drill")]

    def __str__(self) -> str:
        return f"{self.kind}, {self.of}"


class Attempt(models.Model):
    """One go at a stone, at a remedy's exercise or at a drill (which has no stone; ``prompt`` is what was asked for there, by name). Its
    id comes from the device, so that what is sent twice is one. What was won is not stored anywhere: it follows from the attempts.

    ``made_at`` is when it was played, also where it came later; ``start_s`` when, in its sound, the music was due. ``by_hand``: the helper
    judged it. ``trial``: it was not to count, whatever it was.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    task = models.ForeignKey(Task, on_delete=models.CASCADE, related_name="attempts")
    stone = models.CharField(max_length=40, blank=True)
    bars = models.CharField(max_length=40, blank=True)
    remedy = models.ForeignKey(Remedy, on_delete=models.SET_NULL, null=True, blank=True, related_name="attempts")
    tempo = models.FloatField()
    made_at = models.DateTimeField(default=timezone.now)
    drill = models.ForeignKey(Drill, on_delete=models.CASCADE, null=True, blank=True, related_name="attempts")
    prompt = models.CharField(max_length=80, blank=True)
    by_hand = models.BooleanField(default=False)
    trial = models.BooleanField(default=False)
    rate = models.PositiveIntegerField(default=0)
    start_s = models.FloatField(default=0.0)
    seconds = models.FloatField(default=0.0)
    outcome = models.CharField(max_length=8, choices=OutcomeChoices.choices, default=OutcomeChoices.UNHEARD)
    ended = models.BooleanField(default=False)
    says = WordsField(blank=True)
    bar = models.CharField(max_length=20, blank=True)
    code = models.CharField(max_length=40, blank=True)
    cause = WordsField(blank=True)
    at_fault = models.JSONField(default=list)
    doubtful = models.JSONField(default=list)
    changes = models.JSONField(default=list)
    place_s = models.FloatField(null=True)
    until_s = models.FloatField(null=True)
    sound = models.FileField(upload_to="attempts/%Y/%m/", blank=True)
    sound_delay_s = models.FloatField(default=0.0)

    objects = AttemptQuerySet.as_manager()

    class Meta:
        ordering = ["made_at", "pk"]
        indexes = [models.Index(fields=["task", "made_at"], name="attempts_of_a_task")]

    def __str__(self) -> str:
        return f"{self.get_outcome_display()}, {self.bars}"

    @property
    def bars_in_words(self) -> str:
        return bars_in_words(self.bars)

    @property
    def samples_path(self) -> Path:
        """Where its sound lies while it is played and until it was heard: 16-bit samples, mono."""
        return Path(settings.UPLOAD_ROOT) / f"{self.pk}.pcm"

    @property
    def counts_as(self) -> Outcome:
        """What it counts as. A trial run counts as nothing."""
        return Outcome.TRIAL if self.trial and self.outcome != OutcomeChoices.UNHEARD else Outcome(self.outcome)


class Habit(models.Model):
    """What a household has agreed on for one instrument: minutes a day, days without (Monday is 0), a time."""

    enrolment = models.OneToOneField(Enrolment, on_delete=models.CASCADE, related_name="habit")
    minutes = models.PositiveSmallIntegerField(default=20)
    days_off = ArrayField(models.PositiveSmallIntegerField(), default=list, blank=True)
    at = models.TimeField(null=True, blank=True)
