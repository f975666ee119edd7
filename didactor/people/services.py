from __future__ import annotations

import hashlib
import re
import secrets
from collections.abc import Iterable
from datetime import date

from django.db import transaction
from django.utils import timezone

from didactor.core.words import _
from didactor.people.models import Consent, ConsentKind, Enrolment, Group, Person, Role, SignInCard, Studio
from didactor.people.roll import Row

#: Letters and digits that are not mistaken for one another when read aloud or from paper.
CODE_ALPHABET = "abcdefghjkmnpqrstuvwxyz23456789"
CODE_LENGTH = 12

CONSENT_WORDING = _(
    "Sound: I agree that this student records the sound of their playing in Didactor, that their teacher "
    "hears the recordings and answers them, and that they are kept until the studio or I ask for their "
    "deletion. I can withdraw this at any time."
)
PICTURE_WORDING = _(
    "Pictures: I agree that this student films their playing for Didactor, hands, instrument or face as "
    "the teacher asks, that their teacher sees the films, and that they are kept until the studio or I "
    "ask for their deletion. I can withdraw this at any time, and sound alone stays possible."
)


TOGETHER_WORDING = _(
    "Together: I agree that this student’s takes may be put together with those of their group into one "
    "recording, which the teacher and the students in it can hear. Who does not agree is left out of it. "
    "I can withdraw this at any time; recordings that they are in cannot be heard any more then."
)
WORDINGS = {ConsentKind.SOUND: CONSENT_WORDING, ConsentKind.PICTURE: PICTURE_WORDING, ConsentKind.TOGETHER: TOGETHER_WORDING}


def hash_code(code: str) -> str:
    """A code as typed (any case, spaces and dashes) to what is kept of it. Codes are random and long, so no salt is needed."""
    plain = re.sub(r"[^a-z0-9]", "", code.lower())
    return hashlib.sha256(plain.encode()).hexdigest()


def guess_name(code: str) -> str:
    """Under which name failures with a code are counted: its own, so that wrong ones, however many, lock only themselves."""
    return f"card {hash_code(code)[:16]}"


@transaction.atomic
def make_card(person: Person) -> str:
    """A new sign-in code for a person; an older card stops working. Returns the code, which is shown once."""
    code = "".join(secrets.choice(CODE_ALPHABET) for _ in range(CODE_LENGTH))
    SignInCard.objects.update_or_create(person=person, defaults={"code_hash": hash_code(code)})
    if not person.is_teacher:
        # Sessions hang on the password's hash: with a new one, those of the old card end.
        person.set_unusable_password()
        person.save(update_fields=["password"])
    return "-".join(code[i : i + 4] for i in range(0, CODE_LENGTH, 4))


@transaction.atomic
def add_student(
    *, studio: Studio, name: str, instrument: str, level: str, group_name: str = "", is_minor: bool = False, guardian: str = ""
) -> Enrolment:
    """A new student with their first enrolment, and a guardian where one is named. A group that does not exist yet is made."""
    student = Person.objects.create(username=_free_username(name), name=name.strip(), role=Role.STUDENT, studio=studio, is_minor=is_minor)
    student.set_unusable_password()
    student.save()
    if guardian:
        add_guardian(student=student, name=guardian)
    return enrol(student=student, instrument=instrument, level=level, group_name=group_name)


@transaction.atomic
def set_performance(*, group: Group, day: date | None) -> None:
    """The day of a group's next performance, or none."""
    group.performs_on = day
    group.save(update_fields=["performs_on"])


@transaction.atomic
def enrol(*, student: Person, instrument: str, level: str, group_name: str = "") -> Enrolment:
    """Put a student on an instrument, or change level and group of an instrument they already have."""
    group = None
    if group_name.strip():
        group, _ = Group.objects.get_or_create(studio=student.studio, name=group_name.strip())
    enrolment, _ = Enrolment.objects.update_or_create(student=student, instrument=instrument, defaults={"level": level, "group": group})
    return enrolment


@transaction.atomic
def add_roll(*, studio: Studio, rows: Iterable[Row]) -> tuple[list[Person], list[Enrolment]]:
    """The new ones of a list: students with their guardians, and other instruments of those who are here already. Returns both."""
    added: dict[str, Person] = {}
    more: list[Enrolment] = []
    for row in rows:
        if not row.is_new:
            continue
        student = row.known or added.get(row.name.casefold())
        if student is not None:
            enrolment = enrol(student=student, instrument=row.instrument, level=row.level, group_name=row.group)
            more += [enrolment] if row.known else []
            continue
        enrolment = add_student(
            studio=studio, name=row.name, instrument=row.instrument, level=row.level, group_name=row.group, is_minor=row.is_minor
        )
        added[row.name.casefold()] = enrolment.student
        if row.guardian:
            add_guardian(student=enrolment.student, name=row.guardian)
    return list(added.values()), more


def set_reading(*, student: Person, reads_notes: bool) -> None:
    """Whether a student reads notes yet, on all their instruments."""
    student.enrolments.update(reads_notes=reads_notes)


@transaction.atomic
def change_student(*, student: Person, name: str, is_minor: bool, reads_notes: bool) -> None:
    """Another name, come of age, or found to be under age, reads notes or not yet; what was recorded stays theirs."""
    student.name, student.is_minor = name.strip(), is_minor
    student.save(update_fields=["name", "is_minor"])
    set_reading(student=student, reads_notes=reads_notes)


@transaction.atomic
def add_guardian(*, student: Person, name: str) -> Person:
    """An adult who sees what the student sees."""
    guardian = Person.objects.create(username=_free_username(name), name=name.strip(), role=Role.GUARDIAN, studio=student.studio)
    guardian.set_unusable_password()
    guardian.save()
    guardian.wards.add(student)
    return guardian


def record_consent(*, student: Person, given_by: str, recorded_by: Person, kind: str = ConsentKind.SOUND) -> Consent:
    """Record that somebody agreed to sound, to pictures, or to be heard together with others, in the words that they read."""
    wording = WORDINGS[ConsentKind(kind)]
    return Consent.objects.create(student=student, kind=kind, given_by=given_by.strip(), wording=wording, recorded_by=recorded_by)


def given(student: Person, kind: str) -> Consent | None:
    """The consent of one kind that holds now."""
    return student.consents.filter(kind=kind, withdrawn_at=None).first()


def withdraw_consent(*, student: Person, kind: str = "") -> None:
    """Consent to one kind, or to all, ends now; nothing more of it can be recorded until it is given again."""
    given = Consent.objects.filter(student=student, withdrawn_at=None)
    (given.filter(kind=kind) if kind else given).update(withdrawn_at=timezone.now())


def leave(*, student: Person) -> None:
    """The student no longer signs in or gets work; what they recorded stays until it is deleted."""
    student.is_active = False
    student.save(update_fields=["is_active"])


def _free_username(name: str) -> str:
    stem = re.sub(r"[^a-z]+", ".", name.lower()).strip(".") or "person"
    username, count = stem, 2
    while Person.objects.filter(username=username).exists():
        username, count = f"{stem}.{count}", count + 1
    return username
