"""Recordings, what was heard in them, and what the student says of them. A take is never changed, only deleted unsubmitted."""

from __future__ import annotations

import uuid
from functools import cached_property
from pathlib import Path

from django.conf import settings
from django.db import models

from didactor.assignments.checklists import OWN
from didactor.assignments.models import BEAT_UNITS, Assignment, Task
from didactor.core.formats.result import Result, read_result
from didactor.core.judging.categories import TITLES
from didactor.core.judging.targets import Targets
from didactor.core.steps import Step, on_the_way
from didactor.core.units import quarters_to_beats_per_minute
from didactor.core.words import _, worded
from didactor.people.models import Person, Studio
from didactor.takes.querysets import AnalysisQuerySet, SubmissionQuerySet, TakeQuerySet, TogetherQuerySet
from didactor.web.words_field import WordsField

CATEGORY_CHOICES = list(TITLES.items())


class Upload(models.Model):
    """A recording on its way in, in pieces. Nobody sees it before its last byte is here; then it becomes a take."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    task = models.ForeignKey(Task, on_delete=models.CASCADE, related_name="uploads")
    owner = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="uploads")
    filename = models.CharField(max_length=255)
    length = models.BigIntegerField()
    offset = models.BigIntegerField(default=0)
    origin = models.CharField(max_length=10, default="file")
    clicks_s = models.JSONField(default=list)
    step = models.CharField(max_length=20, blank=True)
    own_tempo = models.FloatField(null=True)
    late_s = models.FloatField(null=True)
    backing = models.JSONField(null=True)
    take = models.ForeignKey("Take", on_delete=models.SET_NULL, null=True, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    @property
    def path(self) -> Path:
        return Path(settings.UPLOAD_ROOT) / str(self.pk)


class TakeState(models.TextChoices):
    STORED = "stored", _("Stored, waiting to be heard")
    ANALYSING = "analysing", _("Being heard")
    ANALYSED = "analysed", _("Heard")
    UNUSABLE = "unusable", _("Nothing to judge in it")
    FAILED = "failed", _("Could not be heard")
    LIVE = "live", _("Heard live")


class Take(models.Model):
    """One recording: its file untouched, and frozen with it what it is judged against (``basis``). ``counted``: it was heard, and so counts
    against the number of takes allowed, once and for all.
    """

    task = models.ForeignKey(Task, on_delete=models.PROTECT, related_name="takes")
    number = models.PositiveIntegerField()
    original = models.FileField(max_length=200, blank=True)
    filename = models.CharField(max_length=255)
    size = models.BigIntegerField()
    sha256 = models.CharField(max_length=64)
    basis = models.JSONField()
    recorded_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    state = models.CharField(max_length=10, choices=TakeState.choices, default=TakeState.STORED)
    step = models.CharField(max_length=20, blank=True)
    counted = models.BooleanField(default=False)
    lost = models.PositiveSmallIntegerField(default=0, db_default=0, help_text="So often a worker died while it heard it.")
    heard_live = models.BooleanField(default=False, help_text="The teacher was there; a recording of it may be missing.")
    trouble = WordsField(blank=True)
    playback = models.FileField(upload_to="playback/%Y/%m/", blank=True)
    has_picture = models.BooleanField(null=True)
    playback_delay_s = models.FloatField(default=0.0)
    picture = models.FileField(upload_to="pictures/%Y/%m/", blank=True)
    picture_delay_s = models.FloatField(default=0.0)
    duration_s = models.FloatField(null=True)
    peaks = models.JSONField(default=list)
    loudness_lufs = models.FloatField(null=True)
    heard_through_at = models.DateTimeField(null=True)
    recording_gone_at = models.DateTimeField(null=True, blank=True, help_text="When its recording went, by age.")

    same_as = models.ForeignKey(
        "self", on_delete=models.SET_NULL, null=True, blank=True, related_name="+", help_text="The earlier take whose recording this is."
    )

    objects = TakeQuerySet.as_manager()

    class Meta:
        ordering = ["number"]
        indexes = [models.Index(fields=["task"], name="takes_not_heard", condition=models.Q(state__in=("stored", "analysing", "failed")))]
        constraints = [models.UniqueConstraint(fields=["task", "number"], name="take_number_once_per_task")]

    def __str__(self) -> str:
        return worded("Heard live") if self.heard_live else worded("Take {number}", number=self.number)

    @property
    def lacks_picture(self) -> bool:
        """Whether a picture was asked for and sound alone came."""
        return bool(self.task.assignment.must_show) and self.has_picture is False

    @property
    def is_settled(self) -> bool:
        return self.state in (TakeState.ANALYSED, TakeState.UNUSABLE, TakeState.FAILED, TakeState.LIVE)

    @property
    def is_submitted(self) -> bool:
        return hasattr(self, "submission")

    @cached_property
    def targets(self) -> Targets:
        """What this take is judged against, whatever became of the assignment since."""
        return Targets.from_json(self.basis["targets"])

    @property
    def tempo_asked(self) -> str:
        """“quarter = 92–100”, as it was asked when the take came in, or “quarter = 54, own choice”."""
        asked = f"{BEAT_UNITS[self.basis['beat_unit']]} = {self.tempo_figure}"
        return worded("{tempo}, own choice", tempo=asked) if self.own_tempo else asked

    @property
    def own_tempo(self) -> float | None:
        """The tempo that the student chose for this take, beats per minute; None where the stage fixed it."""
        chosen: float | None = self.basis.get("own_tempo")
        return chosen

    @property
    def tempo_figure(self) -> str:
        """The same without its unit: “92–100”."""
        if self.own_tempo:
            return f"{self.own_tempo:g}"
        unit, targets = self.basis["beat_unit"], self.targets
        tempi = [quarters_to_beats_per_minute(qpm, unit) for qpm in (targets.tempo_qpm, targets.tempo_to_qpm) if qpm is not None]
        return "–".join(f"{tempo:g}" for tempo in tempi)

    @property
    def stage_asked(self) -> str:
        return self.targets.stage_rules.title

    @property
    def on_the_way(self) -> Step | None:
        """The step that this take records; None for what is asked for in the end."""
        goal = self.task.assignment.step
        slug = self.basis.get("step", goal)
        return None if slug == goal else on_the_way(slug)

    @property
    def waits_for_listening(self) -> bool:
        """Whether what was heard is shown only after the student has listened and marked; steps on the way show it at once."""
        own: SelfReview | None = getattr(self, "self_review", None)
        listened = own is not None and own.done_at is not None
        return self.task.assignment.listen_first and not listened and self.on_the_way is None

    @property
    def latest_analysis(self) -> Analysis | None:
        return max(self.analyses.all(), key=lambda a: a.pk, default=None)

    @property
    def heard(self) -> Result | None:
        """What was heard, as far as anything could be judged."""
        analysis = self.latest_analysis
        return analysis.heard if analysis and self.state == TakeState.ANALYSED else None

    @property
    def is_answered(self) -> bool:
        return self.is_submitted and self.submission.answered_at is not None


class Delivery(models.Model):
    """A recording was given out: to whom, on which day. Those of the student themselves are not kept."""

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="deliveries")
    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="+")
    on = models.DateField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["take", "person", "on"], name="given_once_a_day")]


class Together(models.Model):
    """Takes of one assignment as one recording of the whole band. ``tempo``: beats per minute of the assignment's unit."""

    assignment = models.ForeignKey(Assignment, on_delete=models.CASCADE, related_name="together")
    made_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")
    tempo = models.FloatField()
    takes = models.ManyToManyField(Take, related_name="together")
    sound = models.FileField(upload_to="together/%Y/%m/", blank=True)
    trouble = WordsField(blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    objects = TogetherQuerySet.as_manager()

    class Meta:
        ordering = ["-created_at"]

    @property
    def is_settled(self) -> bool:
        return bool(self.sound or self.trouble)


class Analysis(models.Model):
    """What one version of the engine heard in a take. A new version is a new row; none is ever overwritten.

    ``moments``: when each moment of the score was heard (bar, pass, quarters into the bar, seconds), by which one recording is known again.
    ``summary`` is what lists show of ``result`` (bars, played tempo, number of findings, likely causes), so that they need not load it.
    """

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="analyses")
    engine_version = models.CharField(max_length=20)
    parameters = models.JSONField()
    result = models.JSONField()
    summary = models.JSONField(default=dict)
    moments = models.JSONField(default=list)
    tone = models.JSONField(null=True, help_text="What was measured of its tone; see core/tone.")
    seconds = models.FloatField()
    created_at = models.DateTimeField(auto_now_add=True)

    objects = AnalysisQuerySet.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["take", "engine_version"], name="one_analysis_per_engine_version")]

    @cached_property
    def heard(self) -> Result:
        return read_result(self.result)


class OnTheWhole(models.TextChoices):
    """Answers to a question about a whole take."""

    YES = "yes", _("Yes")
    PARTLY = "partly", _("Partly")
    NO = "no", _("No")


class SelfReview(models.Model):
    """The student's own listening: marks by category, whether it was easy and as it was meant, and the one thing to work on next."""

    take = models.OneToOneField(Take, on_delete=models.CASCADE, related_name="self_review")
    work_on = models.CharField(max_length=300, blank=True)
    easy = models.CharField(max_length=6, choices=OnTheWhole.choices, blank=True)
    as_meant = models.CharField(max_length=6, choices=OnTheWhole.choices, blank=True)
    done_at = models.DateTimeField(null=True)


class Verdict(models.TextChoices):
    GOOD = "good", _("As I meant it")
    MEND = "mend", _("To mend")


class SelfMark(models.Model):
    """One category of the student's checklist, or one thing pinned to a bar."""

    self_review = models.ForeignKey(SelfReview, on_delete=models.CASCADE, related_name="marks")
    category = models.CharField(max_length=20, choices=CATEGORY_CHOICES)
    verdict = models.CharField(max_length=5, choices=Verdict.choices, default=Verdict.MEND)
    bar = models.CharField(max_length=10, blank=True)
    text = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["pk"]

    @property
    def row(self) -> str:
        """The name of the checklist's row it belongs to: the category, or the teacher's own words."""
        return OWN + self.text if self.is_own_row else self.category

    @property
    def is_own_row(self) -> bool:
        # Only what is pinned to a bar has words of the student.
        return bool(self.text) and not self.bar

    @property
    def title(self) -> str:
        return self.text if self.is_own_row else str(self.get_category_display())


class Submission(models.Model):
    """The take that a student sends to the teacher."""

    take = models.OneToOneField(Take, on_delete=models.PROTECT, related_name="submission")
    #: That of the take's assignment, so that one studio's desk is found without walking through those of all others. The database fills it
    #: in, whoever writes the row (see the migration that made it).
    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="+", editable=False, db_index=False)
    submitted_at = models.DateTimeField(auto_now_add=True)
    answered_at = models.DateTimeField(null=True)

    objects = SubmissionQuerySet.as_manager()

    class Meta:
        ordering = ["submitted_at"]
        indexes = [
            models.Index(fields=["studio", "submitted_at"], name="waits_in_studio", condition=models.Q(answered_at=None)),
            models.Index(fields=["studio", "-answered_at"], name="answered_in_studio", condition=models.Q(answered_at__isnull=False)),
        ]
