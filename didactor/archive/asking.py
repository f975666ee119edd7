from __future__ import annotations

from django.db import IntegrityError, transaction

from didactor.archive.jobs import make_copy
from didactor.archive.models import PersonCopy
from didactor.people.models import Person


def ask(*, person: Person, asked_by: Person) -> PersonCopy:
    """A person's copy that is to be made; the one that is being made already, if one is."""
    try:
        with transaction.atomic():
            copy = PersonCopy.objects.create(person=person, asked_by=asked_by)
            make_copy.defer(copy_id=copy.pk)
    except IntegrityError:
        return PersonCopy.objects.filter(person=person)[0]
    return copy
