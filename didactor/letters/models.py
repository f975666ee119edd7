"""E-mail that goes out: written from what has happened, kept as it was sent, and what somebody does not want."""

from __future__ import annotations

from django.contrib.postgres.fields import ArrayField
from django.db import models

from didactor.core.words import _
from didactor.letters.querysets import LetterQuerySet
from didactor.people.models import Person


class Kind(models.TextChoices):
    HANDED_IN = "handed_in", _("Takes that wait on the desk")
    ANSWERED = "answered", _("An answer from the teacher")
    DUE_SOON = "due_soon", _("What is due soon")


class Choice(models.Model):
    """Kinds of letters that a person does not want. The address itself is the person's own."""

    person = models.OneToOneField(Person, on_delete=models.CASCADE, related_name="letter_choice")
    not_wanted = ArrayField(models.CharField(max_length=12, choices=Kind.choices), default=list, blank=True)


class Letter(models.Model):
    """One letter. ``about``: what it tells, so that nothing is told twice; ``tried_at`` and ``tries`` of attempts to send it."""

    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="letters")
    kind = models.CharField(max_length=12, choices=Kind.choices)
    about = models.CharField(max_length=80)
    address = models.EmailField()
    subject = models.CharField(max_length=200)
    body = models.TextField()
    made_at = models.DateTimeField()
    tried_at = models.DateTimeField(null=True)
    tries = models.PositiveSmallIntegerField(default=0)
    sent_at = models.DateTimeField(null=True)
    trouble = models.CharField(max_length=200, blank=True)

    objects = LetterQuerySet.as_manager()

    class Meta:
        ordering = ["-made_at", "-pk"]
        constraints = [models.UniqueConstraint(fields=["person", "kind", "about"], name="told_once")]

    def __str__(self) -> str:
        return self.subject
