"""The teacher's answer to a submitted take: marks, words, a decision. Nothing of it reaches the student before it is sent."""

from __future__ import annotations

from django.contrib.postgres.fields import ArrayField
from django.db import models

from didactor.assignments.checklists import title_of
from didactor.assignments.models import Assignment
from didactor.core.score.roadmap import bars_in_words
from didactor.core.words import _, english, worded
from didactor.library.said import is_film
from didactor.people.models import Person
from didactor.takes.models import CATEGORY_CHOICES, Submission
from didactor.web.words_field import WordsField

#: Where a remark on one hand is.
RIGHT_HAND, LEFT_HAND = _("Bar {bar}, right hand: {text}"), _("Bar {bar}, left hand: {text}")


class Decision(models.TextChoices):
    PASSED = "passed", _("Passed")
    ONCE_MORE = "once_more", _("Once more")
    STAY = "stay", _("Stay on it")
    SLOWER = "slower", _("Slower")
    SHORTER = "shorter", _("A shorter segment")
    STEP = "step", _("Another step first")
    NEXT = "next", _("On to the next")


class Scale(models.Model):
    """The marks that a teacher gives, in their own words and order; many give none and have none."""

    teacher = models.OneToOneField(Person, on_delete=models.CASCADE, related_name="scale")
    steps = ArrayField(models.CharField(max_length=20), default=list)


class Review(models.Model):
    """One answer; a draft until ``sent_at`` is set. ``version`` goes up with each change of its words, decision and checklist."""

    submission = models.OneToOneField(Submission, on_delete=models.CASCADE, related_name="review")
    teacher = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="reviews")
    text = models.TextField(blank=True)
    decision = models.CharField(max_length=10, choices=Decision.choices, blank=True)
    decision_tempo = models.FloatField(null=True, blank=True)
    decision_bars = models.CharField(max_length=40, blank=True)
    decision_step = models.CharField(max_length=10, blank=True)
    decision_minutes = models.PositiveSmallIntegerField(null=True, blank=True)
    grade = models.CharField(max_length=20, blank=True, help_text="On the teacher's own scale, where they have one.")
    way = models.OneToOneField(
        Assignment, on_delete=models.SET_NULL, null=True, blank=True, related_name="+", help_text="What was given to work on first."
    )
    checklist = models.JSONField(default=dict, help_text="The teacher's verdict by category: good, mend or unheard.")
    created_at = models.DateTimeField(auto_now_add=True)
    sent_at = models.DateTimeField(null=True)
    amended_at = models.DateTimeField(null=True)
    version = models.PositiveIntegerField(default=0)

    def categories_with(self, verdict: str) -> list[str]:
        """Titles of the checklist's categories that got this verdict."""
        return [title_of(row) for row, given in self.checklist.items() if given == verdict and title_of(row)]

    @property
    def bars_in_words(self) -> str:
        return bars_in_words(self.decision_bars)

    @property
    def good(self) -> list[str]:
        return self.categories_with("good")

    @property
    def to_mend(self) -> list[str]:
        return self.categories_with("mend")

    @property
    def unheard(self) -> list[str]:
        return self.categories_with("unheard")


class FormerAnswer(models.Model):
    """What an answer said before it was amended."""

    review = models.ForeignKey(Review, on_delete=models.CASCADE, related_name="former")
    replaced_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")
    replaced_at = models.DateTimeField(auto_now_add=True)
    sent_at = models.DateTimeField()
    said = models.JSONField()

    class Meta:
        ordering = ["-replaced_at"]

    @property
    def decision_title(self) -> str:
        return dict(Decision.choices).get(self.said["decision"], "")


class Origin(models.TextChoices):
    HEARD = "heard", _("Heard")
    TEACHER = "teacher", _("Teacher")


class Standing(models.TextChoices):
    PROPOSED = "proposed", _("Proposed")
    KEPT = "kept", _("Kept")
    DROPPED = "dropped", _("Dropped")


class Mark(models.Model):
    """One remark with its place. A finding comes as a proposal; the teacher keeps, changes or drops it."""

    review = models.ForeignKey(Review, on_delete=models.CASCADE, related_name="marks")
    origin = models.CharField(max_length=10, choices=Origin.choices)
    standing = models.CharField(max_length=10, choices=Standing.choices)
    category = models.CharField(max_length=20, choices=CATEGORY_CHOICES)
    text = WordsField()
    heard_text = WordsField(blank=True)
    code = models.CharField(max_length=60, blank=True)
    bar = models.CharField(max_length=10, blank=True)
    beat = models.FloatField(null=True)
    hand = models.CharField(max_length=5, blank=True)
    note_ids = models.JSONField(default=list)
    said = models.FileField(upload_to="said/%Y/%m/", blank=True, help_text="What the teacher said or filmed with it.")
    start_s = models.FloatField(null=True)
    end_s = models.FloatField(null=True)

    class Meta:
        ordering = ["pk"]

    @property
    def said_is_film(self) -> bool:
        return is_film(str(self.said.name or ""))

    @property
    def with_its_place(self) -> str:
        """The words, after the bar and the hand where they do not say it themselves."""
        said = english(self.text).lower()
        if not self.bar or f"bar {self.bar}" in said:
            return self.text
        if self.hand and f"{self.hand} hand" not in said:
            pattern = RIGHT_HAND if self.hand == "right" else LEFT_HAND
            return worded(pattern, bar=self.bar, text=self.text)
        return worded("Bar {bar}: {text}", bar=self.bar, text=self.text)
