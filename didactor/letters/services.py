from __future__ import annotations

from collections.abc import Collection

from django.db import transaction

from didactor.letters.forms import kinds_for
from didactor.letters.models import Choice, Kind
from didactor.people.models import Person


@transaction.atomic
def choose(*, person: Person, address: str, wanted: Collection[str]) -> None:
    """Keep an address, and which of the letters that somebody in this role gets they want."""
    person.email = address
    person.save(update_fields=["email"])
    refused = [kind for kind, _ in kinds_for(person) if kind not in wanted]
    Choice.objects.update_or_create(person=person, defaults={"not_wanted": refused})


@transaction.atomic
def want_no_more(*, person: Person, kind: Kind) -> None:
    """No more letters of this kind. Twice is once."""
    choice, _ = Choice.objects.select_for_update().get_or_create(person=person)
    if kind not in choice.not_wanted:
        choice.not_wanted = [*choice.not_wanted, kind]
        choice.save(update_fields=["not_wanted"])
