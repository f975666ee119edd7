from __future__ import annotations

from datetime import timedelta

from django.core.files.storage import default_storage
from django.db import models, transaction
from django.db.models.signals import post_delete
from django.utils import timezone

from didactor.core.words import _, worded
from didactor.people.models import Person
from didactor.web.words_field import WordsField

#: One that is not made by then was broken off.
MADE_WITHIN = timedelta(hours=1)
BROKEN_OFF = _("It was broken off. Ask again.")


class PersonCopy(models.Model):
    """One file with all that is kept of a person, as it was asked for. ``file`` is empty until it is made; it goes after some days."""

    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="copies")
    asked_by = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="+")
    asked_at = models.DateTimeField(auto_now_add=True)
    file = models.FileField(upload_to="copies/", blank=True)
    size = models.BigIntegerField(default=0)
    trouble = WordsField(blank=True)

    class Meta:
        ordering = ["-asked_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["person"], condition=models.Q(file="", trouble=""), name="one_copy_of_a_person_is_made_at_a_time"
            )
        ]

    @property
    def is_being_made(self) -> bool:
        return not self.file and not self.trouble and self.asked_at > timezone.now() - MADE_WITHIN

    def __str__(self) -> str:
        return worded("Copy of {asked_at:%Y-%m-%d}", asked_at=self.asked_at)


def _file_goes_too(sender: type[PersonCopy], instance: PersonCopy, **kwargs: object) -> None:
    """A copy whose person is erased takes its file along."""
    if instance.file:
        name = str(instance.file.name)
        transaction.on_commit(lambda: default_storage.delete(name))


post_delete.connect(_file_goes_too, sender=PersonCopy)
