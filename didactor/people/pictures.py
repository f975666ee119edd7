"""Signing in with four pictures, for children who do not read yet: the studio's code once, then one's name, then the pictures.

There are 65,536 codes, so guesses are counted: by child over all devices that never signed in as that child, ten a day; and by device on
one that did. Whoever guesses from elsewhere can stop other devices for a day, not the child's own, and never the code on their card.
"""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from axes.models import AccessAttempt
from axes.utils import reset
from django.conf import settings
from django.contrib.auth.hashers import check_password, make_password
from django.core.signing import BadSignature, dumps, loads
from django.db import IntegrityError, transaction
from django.db.models import Sum
from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from didactor.core.words import _, worded
from didactor.people.accounts import end_sessions
from didactor.people.models import Person, PictureCode, Role, Studio
from didactor.people.services import CODE_ALPHABET

#: What is chosen from, and its outline in a square of 32.
PICTURES = {
    "drum": "M5 11 C5 7 27 7 27 11 C27 15 5 15 5 11 Z M5 11 V22 C5 26 27 26 27 22 V11 M11 14 V25 M21 14 V25",
    "bell": "M8 23 C10 20 9 8 16 7 C23 8 22 20 24 23 Z M14 25 C14 28 18 28 18 25 M16 7 V4",
    "leaf": "M6 26 C5 12 14 6 26 6 C27 18 20 26 9 24 M6 28 L19 13",
    "moon": "M20 5 C12 7 9 20 21 26 C12 30 4 22 6 14 C7 8 13 4 20 5 Z",
    "sun": "M16 10 A6 6 0 1 0 16 22 A6 6 0 1 0 16 10 Z M16 3 V6 M16 26 V29 M3 16 H6 M26 16 H29 M7 7 L9 9 M23 23 L25 25 M25 7 L23 9 M9 23 L7 25",  # noqa: E501
    "fish": "M4 16 C9 8 18 8 23 16 C18 24 9 24 4 16 Z M23 16 L29 10 V22 Z M9.5 14.5 V15",
    "star": "M16 4 L19.5 12.5 L28 13 L21.5 18.5 L23.5 27 L16 22.5 L8.5 27 L10.5 18.5 L4 13 L12.5 12.5 Z",
    "boat": "M4 20 H28 L24 27 H8 Z M15 20 V4 L25 17 H15",
    "cup": "M7 9 H22 V20 C22 26 7 26 7 20 Z M22 12 C29 11 29 20 22 19 M10 6 V4 M15 6 V3 M19 6 V4",
    "key": "M9 11 A5 5 0 1 0 9 21 A5 5 0 1 0 9 11 Z M14 16 H28 V21 M23 16 V20",
    "tree": "M16 29 V20 M16 3 L6 14 H11 L5 22 H27 L21 14 H26 Z",
    "house": "M4 16 L16 5 L28 16 M7 14 V27 H25 V14 M13 27 V19 H19 V27",
    "bird": "M5 14 C9 9 14 12 16 16 C20 8 26 8 28 10 C25 12 26 22 16 23 C11 23 8 20 8 16 Z M14 23 V28 M18 23 V28",
    "boot": "M11 4 H20 V17 C22 20 28 19 28 25 H10 Z M10 28 H28 M11 9 H20",
    "apple": "M16 11 C9 6 4 12 6 19 C8 27 13 28 16 26 C19 28 24 27 26 19 C28 12 23 6 16 11 Z M16 11 C15 7 17 4 20 4",
    "snail": "M4 26 H24 C28 26 29 18 27 14 M27 14 L25 9 M27 14 L30 10 M20 26 C26 18 20 9 13 11 C7 13 8 23 14 23 C19 22 18 16 14 17",
}
#: What one says of them.
PICTURE_NAMES = {
    "drum": _("drum"),
    "bell": _("bell"),
    "leaf": _("leaf"),
    "moon": _("moon"),
    "sun": _("sun"),
    "fish": _("fish"),
    "star": _("star"),
    "boat": _("boat"),
    "cup": _("cup"),
    "key": _("key"),
    "tree": _("tree"),
    "house": _("house"),
    "bird": _("bird"),
    "boot": _("boot"),
    "apple": _("apple"),
    "snail": _("snail"),
}
CODE_OF = 4

#: A studio's code is long and random, as a card's is: nobody finds one by trying.
STUDIO_CODE_LENGTH = 8
#: How long guesses are counted, on a child's own device and from elsewhere.
COUNTED, COUNTED_ELSEWHERE = timedelta(minutes=15), timedelta(days=1)
COOKIE, KNOWN_FOR_S, MOST_ON_A_DEVICE = "known_here", 60 * 60 * 24 * 365, 30


def shown() -> list[tuple[str, str, str]]:
    """Each picture with its name for programs, what one says of it, and its outline."""
    return [(name, PICTURE_NAMES[name], outline) for name, outline in PICTURES.items()]


def studio_code(studio: Studio, anew: bool = False) -> str:
    """A studio's code, made when it is first asked for, or ``anew``: the old one then opens nothing any more."""
    while not studio.code or anew:
        code = "".join(secrets.choice(CODE_ALPHABET) for _ in range(STUDIO_CODE_LENGTH))
        try:
            with transaction.atomic():
                asked = Studio.objects.filter(pk=studio.pk)
                (asked if anew else asked.filter(code=None)).update(code=code)
        except IntegrityError:
            continue
        studio.refresh_from_db(fields=["code"])
        anew = False
    return f"{studio.code[:4]}-{studio.code[4:]}"


def studio_of(code: str) -> Studio | None:
    """The studio with this code, typed in any case, with or without its dash."""
    plain = "".join(letter for letter in code.lower() if letter in CODE_ALPHABET)
    return Studio.objects.filter(code=plain).first() if len(plain) == STUDIO_CODE_LENGTH else None


def who_may(studio: Studio) -> list[tuple[Person, str]]:
    """Who signs in with pictures, and what they are called on that page: the first name, with more of it where two have the same."""
    people = list(Person.objects.filter(studio=studio, is_active=True, role=Role.STUDENT, picture_code__isnull=False))
    firsts = [(person.name.split() or [""])[0] for person in people]
    return [(person, first if firsts.count(first) == 1 else person.name) for person, first in zip(people, firsts, strict=True)]


@transaction.atomic
def give(*, person: Person, chosen: Sequence[str] = ()) -> list[str]:
    """Give a student their pictures, or any where none are chosen; returns them. Older ones, and sessions begun with them, end.

    Raises ``ValueError`` for what is no four pictures of ours.
    """
    code = list(chosen) or [secrets.choice(list(PICTURES)) for _ in range(CODE_OF)]
    if len(code) != CODE_OF or any(picture not in PICTURES for picture in code):
        raise ValueError(worded("Choose four pictures."))
    PictureCode.objects.update_or_create(person=person, defaults={"code_hash": make_password(" ".join(code))})
    end_sessions(person)
    try_again(person)
    return code


@transaction.atomic
def take_away(person: Person) -> None:
    """Sign in with pictures no more."""
    PictureCode.objects.filter(person=person).delete()
    end_sessions(person)


def is_right(person: Person, pictures: Sequence[str]) -> bool:
    """Whether these are a student's pictures. It takes as long where there are none."""
    code = PictureCode.objects.filter(person=person).first()
    return check_password(" ".join(pictures), code.code_hash if code else make_password(None)) and code is not None


def guess_name(request: HttpRequest, person: Person) -> str:
    """Under which name failures are counted: the device's where this child has signed in on it, else of everywhere."""
    own = known_here(request).get(str(person.pk))
    request.guess_from_elsewhere = own is None  # type: ignore[attr-defined]
    return f"{_elsewhere(person)} on {own}" if own else _elsewhere(person)


def _elsewhere(person: Person) -> str:
    return f"pictures {person.pk}"


def known_here(request: HttpRequest) -> dict[str, str]:
    """Who has signed in on this device, each with a number of the device's own for them."""
    try:
        found = loads(request.COOKIES.get(COOKIE, ""), salt=COOKIE, max_age=KNOWN_FOR_S)
    except BadSignature:
        return {}
    return found if isinstance(found, dict) else {}


def remember_here(request: HttpRequest, response: HttpResponse, person: Person) -> None:
    """This device is one of that person's from now on."""
    known = known_here(request)
    own = known.pop(str(person.pk), "") or secrets.token_hex(8)
    known = {**dict(list(known.items())[1 - MOST_ON_A_DEVICE :]), str(person.pk): own}
    signed = dumps(known, salt=COOKIE)
    response.set_cookie(COOKIE, signed, max_age=KNOWN_FOR_S, httponly=True, samesite="Lax", secure=settings.SESSION_COOKIE_SECURE)


def stopped_elsewhere(person: Person) -> bool:
    """Whether so many wrong pictures came from unknown devices that those have to wait."""
    recent = AccessAttempt.objects.filter(username=_elsewhere(person), attempt_time__gte=timezone.now() - COUNTED_ELSEWHERE)
    failures = recent.aggregate(n=Sum("failures_since_start"))["n"] or 0
    return bool(failures >= settings.AXES_FAILURE_LIMIT)


def try_again(person: Person) -> None:
    """Unknown devices may try again."""
    reset(username=_elsewhere(person))


def counted_for(request: HttpRequest | None) -> timedelta:
    """How long a failure of this request counts."""
    return COUNTED_ELSEWHERE if getattr(request, "guess_from_elsewhere", False) else COUNTED


def counted_by(attempt: Any, credentials: dict[str, Any] | None = None) -> list[list[str]]:
    """What failures are counted by: guesses at pictures wherever they come from; at a password, for that name at that address."""
    name = (credentials or {}).get("username") or getattr(attempt, "username", "") or ""
    return [["username"]] if str(name).startswith("pictures ") else [["username", "ip_address"]]
