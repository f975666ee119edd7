"""What scripts say, in every language: one file for each, under an address that changes with it."""

from __future__ import annotations

import hashlib
from functools import cache

from django.conf import settings
from django.http import Http404, HttpRequest, HttpResponse
from django.urls import reverse
from django.utils.translation import override
from django.views.i18n import JavaScriptCatalog

#: Scripts speak it by themselves.
OWN = "en"


@cache
def _script(code: str) -> bytes:
    asked = HttpRequest()
    asked.method = "GET"
    with override(code):
        answer = JavaScriptCatalog.as_view()(asked)
    assert isinstance(answer, HttpResponse)
    return answer.content


def address_of(code: str) -> str:
    """Where the messages of a language are; empty where none are needed."""
    return "" if code == OWN else reverse("words", args=[code, hashlib.sha256(_script(code)).hexdigest()[:12]])


def words(request: HttpRequest, code: str, version: str) -> HttpResponse:
    """The messages. An older address has those of now: a page that is still open asks for it."""
    if code not in dict(settings.LANGUAGES):
        raise Http404
    response = HttpResponse(_script(code), content_type="text/javascript; charset=utf-8")
    response["Cache-Control"] = "public, max-age=31536000, immutable"
    return response
