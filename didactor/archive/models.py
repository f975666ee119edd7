from __future__ import annotations

from django.db import models

from didactor.people.models import Person


class PersonCopy(models.Model):
    """One file with all that is kept of a person, as it was asked for. ``file`` is empty until it is made; it goes after some days."""

    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="copies")
    asked_by = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="+")
    asked_at = models.DateTimeField(auto_now_add=True)
    file = models.FileField(upload_to="copies/", blank=True)
    size = models.BigIntegerField(default=0)
    trouble = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["-asked_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["person"], condition=models.Q(file="", trouble=""), name="one_copy_of_a_person_is_made_at_a_time"
            )
        ]

    @property
    def is_being_made(self) -> bool:
        return not self.file and not self.trouble
