"""In which language, and in which words of the trade, somebody is spoken to."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager

from django.conf import settings
from django.http import HttpRequest, HttpResponseBase
from django.utils.translation import activate, get_language

from didactor.people.models import Person, Studio
from didactor.web.speaking import call_notes, speaking

#: English that counts in crotchets, and English; other languages have one word for each value.
CROTCHETS, ENGLISH = "en-gb", "en"
#: What can be chosen; which English it is the studio says.
CHOICES = {code: name for code, name in settings.LANGUAGES if code != CROTCHETS}


def spoken(get_response: Callable[[HttpRequest], HttpResponseBase]) -> Callable[[HttpRequest], HttpResponseBase]:
    """A page speaks the language its reader chose, or the one their browser asks for, in the words of their studio."""

    def middleware(request: HttpRequest) -> HttpResponseBase:
        call_notes("")
        # Whether somebody is signed in is asked of the session: pages that need nobody load nobody.
        if "_auth_user_id" in request.session and request.user.is_authenticated:
            person = request.user
            studio = person.studio
            activate(_of_studio(person.language or get_language() or ENGLISH, studio))
            call_notes(studio.note_naming if studio else "")
            request.LANGUAGE_CODE = get_language() or ENGLISH  # type: ignore[attr-defined]
        return get_response(request)

    return middleware


def in_words_of(person: Person) -> AbstractContextManager[None]:
    """For what is written to somebody who is not there to ask: a letter, a sheet."""
    studio = person.studio
    chosen = person.language or (studio.language if studio else "") or settings.LANGUAGE_CODE
    return speaking(_of_studio(chosen, studio), studio.note_naming if studio else "")


def _of_studio(language: str, studio: Studio | None) -> str:
    if language in (ENGLISH, CROTCHETS) and studio is not None:
        return CROTCHETS if studio.crotchets else ENGLISH
    return language
