from __future__ import annotations

from collections.abc import Collection

from django.db import transaction

from didactor.letters.forms import kinds_for
from didactor.letters.models import Choice, Kind
from didactor.people.accounts import change_address, enter_address
from didactor.people.models import Person


@transaction.atomic
def choose(*, actor: Person, person: Person, address: str, wanted: Collection[str], password: str = "") -> None:
    """Keep which of the letters that somebody in this role gets they want, and an address where that is the actor's to give.

    Raises:
        AccountRefused: a new address of an account with a password, without it. Nothing is kept then.
    """
    if actor.pk == person.pk:
        change_address(person=person, address=address, password=password)
    elif address and not person.email:
        enter_address(actor=actor, person=person, address=address)
    refused = [kind for kind, _ in kinds_for(person) if kind not in wanted]
    Choice.objects.update_or_create(person=person, defaults={"not_wanted": refused})


@transaction.atomic
def want_no_more(*, person: Person, kind: Kind) -> None:
    """No more letters of this kind. Twice is once."""
    choice, _ = Choice.objects.select_for_update().get_or_create(person=person)
    if kind not in choice.not_wanted:
        choice.not_wanted = [*choice.not_wanted, kind]
        choice.save(update_fields=["not_wanted"])
