from __future__ import annotations

from django.db import IntegrityError, transaction
from django.utils import timezone

from didactor.archive.jobs import make_copy
from didactor.archive.models import BROKEN_OFF, MADE_WITHIN, PersonCopy
from didactor.people.models import Person


def ask(*, person: Person, asked_by: Person) -> PersonCopy:
    """A person's copy that is to be made; the one that is being made already, if one is."""
    PersonCopy.objects.filter(person=person, file="", trouble="", asked_at__lt=timezone.now() - MADE_WITHIN).update(trouble=BROKEN_OFF)
    try:
        with transaction.atomic():
            copy = PersonCopy.objects.create(person=person, asked_by=asked_by)
            make_copy.defer(copy_id=copy.pk)
    except IntegrityError:
        return PersonCopy.objects.filter(person=person)[0]
    return copy
