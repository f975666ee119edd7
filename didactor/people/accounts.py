"""A teacher's own account and the studio's teachers: founding one, inviting colleagues, passwords."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from django.conf import settings
from django.contrib.auth import password_validation
from django.core.cache import cache
from django.core.exceptions import ValidationError
from django.db import connection, transaction
from django.utils import timezone
from django.utils.translation import get_language

from didactor.core.words import worded
from didactor.people.acts import Act
from didactor.people.jobs import send_reset, tell_of_change
from didactor.people.models import Invitation, Person, Role, Studio

#: An invitation is good for so long; a second letter about a forgotten password goes after so long, seconds.
GOOD_FOR, RESET_PAUSE_S = timedelta(days=14), 600


class AccountRefused(Exception):
    """Says why, and what to do."""


def may_found() -> bool:
    """Whether anybody may found a studio here: the first one, or any where the operator allows it."""
    return settings.OPEN_TO_STUDIOS or not Studio.objects.exists()


@transaction.atomic
def found_studio(*, studio: str, name: str, username: str, password: str, email: str = "") -> Person:
    """A new studio with its owner. Raises ``AccountRefused`` where none may be founded, or the sign-in name is taken."""
    with connection.cursor() as cursor:
        # Of two who found the first one at the same moment, one does.
        cursor.execute("LOCK TABLE people_studio IN SHARE ROW EXCLUSIVE MODE")
    if not may_found():
        raise AccountRefused(worded("There is a studio here already. Ask its owner for an invitation."))
    return _teacher(
        Studio.objects.create(name=studio.strip(), language=(get_language() or "").split("-")[0]),
        name,
        username,
        password,
        email,
        is_owner=True,
    )


def _teacher(studio: Studio, name: str, username: str, password: str, email: str, *, is_owner: bool) -> Person:
    if Person.objects.filter(username__iexact=username).exists():
        raise AccountRefused(worded("This sign-in name is taken. Choose another."))
    person = Person(username=username, name=name.strip(), email=email, role=Role.TEACHER, studio=studio, is_owner=is_owner)
    try:
        password_validation.validate_password(password, person)
    except ValidationError as error:
        raise AccountRefused(" ".join(error.messages)) from error
    person.set_password(password)
    person.save()
    return person


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


@transaction.atomic
def invite(*, owner: Person, name: str) -> str:
    """An invitation for a colleague; returns its token, which is shown once. Raises ``AccountRefused`` for who is not the owner."""
    if not owner.is_owner or owner.studio is None:
        raise AccountRefused(worded("Only the studio’s owner invites teachers."))
    token = secrets.token_urlsafe(24)
    Invitation.objects.create(studio=owner.studio, name=name.strip(), token_hash=_hash(token), made_by=owner)
    return token


def invitation_of(token: str) -> Invitation | None:
    """The invitation that a link is of, while it is good."""
    good = Invitation.objects.filter(token_hash=_hash(token), used_at=None, made_at__gt=timezone.now() - GOOD_FOR)
    return good.select_related("studio").first()


@transaction.atomic
def accept(*, token: str, name: str, username: str, password: str, email: str = "") -> Person:
    """Join a studio by an invitation, once. Raises ``AccountRefused``."""
    invitation = Invitation.objects.select_for_update().filter(token_hash=_hash(token), used_at=None).first()
    if invitation is None or invitation.made_at <= timezone.now() - GOOD_FOR:
        raise AccountRefused(worded("This invitation was used already, taken back, or is too old. Ask for a new one."))
    person = _teacher(invitation.studio, name, username, password, email, is_owner=False)
    invitation.used_at = timezone.now()
    invitation.save(update_fields=["used_at"])
    return person


def take_back(*, owner: Person, number: int) -> None:
    """An invitation that was not used opens nothing any more."""
    if owner.is_owner:
        Invitation.objects.filter(studio=owner.studio, pk=number, used_at=None).delete()


@transaction.atomic
def let_go(*, owner: Person, number: int) -> Person | None:
    """A colleague leaves: no sign-in any more; what they gave and answered stays. None where there is no such colleague."""
    colleague: Person | None = Person.objects.whom(owner, Act.LET_GO).filter(role=Role.TEACHER, pk=number).first()
    if colleague is not None:
        colleague.is_active = False
        colleague.save(update_fields=["is_active"])
    return colleague


@transaction.atomic
def hand_on(*, owner: Person, number: int | None, password: str) -> Person:
    """Make a colleague the studio's owner instead. Raises ``AccountRefused``."""
    # Of two who do that at the same moment one finds that they do not own it any more.
    people = {p.pk: p for p in Person.objects.select_for_update().filter(studio=owner.studio, role=Role.TEACHER, is_active=True)}
    current = people.get(owner.pk)
    heir = people.get(number or 0) if current and Person.objects.whom(current, Act.HAND_ON).filter(pk=number or 0).exists() else None
    if current is None or not current.is_owner:
        raise AccountRefused(worded("Only the studio’s owner hands it on."))
    if heir is None:
        raise AccountRefused(worded("Choose a colleague who teaches here."))
    if not current.check_password(password):
        raise AccountRefused(worded("This is not your password: the studio stays yours."))
    Person.objects.filter(pk=current.pk).update(is_owner=False)
    Person.objects.filter(pk=heir.pk).update(is_owner=True)
    return heir


@transaction.atomic
def change_address(*, person: Person, address: str, password: str = "") -> None:
    """A person's own new e-mail address. Where it can open the account (a forgotten password) it takes the password, and the old address
    is told. Raises ``AccountRefused``.
    """
    person = Person.objects.select_for_update().get(pk=person.pk)
    if address == person.email:
        return
    if person.is_teacher and not person.check_password(password):
        raise AccountRefused(worded("This is not your password: the address stays as it was."))
    before, person.email = person.email, address
    person.save(update_fields=["email"])
    if before and person.is_teacher:
        tell_of_change.defer(person_id=person.pk, address=before, what="address")


@transaction.atomic
def change_password(*, person: Person, new: str) -> None:
    """Another password for an account; whoever has its address learns of it. Sessions end with the old one."""
    person.set_password(new)
    person.save(update_fields=["password"])
    if person.email:
        tell_of_change.defer(person_id=person.pk, address=person.email, what="password")


@transaction.atomic
def enter_address(*, actor: Person, person: Person, address: str) -> bool:
    """An address for somebody who has none yet. False where there is one, or it is not this one's to enter."""
    found = Person.objects.whom(actor, Act.ENTER_ADDRESS).select_for_update(of=("self",)).filter(pk=person.pk, email="")
    return found.exists() and bool(Person.objects.filter(pk=person.pk).update(email=address))


def end_sessions(person: Person) -> None:
    """All sessions of a person end, on every device."""
    person.sessions_number += 1
    person.save(update_fields=["sessions_number"])


def ask_for_reset(*, email: str) -> None:
    """Send a letter to every teacher with that address, if there is one; who asks is told the same either way."""
    for person in Person.objects.filter(email__iexact=email.strip(), role=Role.TEACHER, is_active=True).exclude(email=""):
        if cache.add(f"password-reset:{person.pk}", 1, RESET_PAUSE_S):
            send_reset.defer(person_id=person.pk)
