"""What is answered where something may not be, or cannot be just now: a page for whoever asked for one, plain words for a page's script."""

from __future__ import annotations

import sys

from django.contrib.auth.views import redirect_to_login
from django.db import InterfaceError, OperationalError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.template.loader import render_to_string
from django.utils.translation import gettext as _

#: After so long it is worth asking again, seconds.
BACK_IN_S = 10


def wants_page(request: HttpRequest) -> bool:
    """Whether a browser asks for a page to show. Scripts, sounds and pictures do not name HTML as what they take."""
    return "text/html" in request.headers.get("Accept", "text/html") and "HX-Request" not in request.headers


def _in_words(words: str, status: int) -> HttpResponse:
    return HttpResponse(words, status=status, content_type="text/plain; charset=utf-8")


def sign_in_first(request: HttpRequest) -> HttpResponse:
    """The way to the sign-in. A script that followed it would take that page for its answer: it is told."""
    if wants_page(request):
        return redirect_to_login(request.get_full_path())
    return _in_words(_("You are signed out: this was not done. Sign in again; what was recorded stays on this device until then."), 401)


def sent_too_late(request: HttpRequest, reason: str = "") -> HttpResponse:
    """The form's token is of another sign-in than the browser's."""
    if wants_page(request):
        return render(request, "403_csrf.html", status=403)
    return _in_words(
        _("This page is older than your last sign-in: this was not done. Copy what you wrote, reload the page and do it again."), 403
    )


def not_here(request: HttpRequest, exception: Exception) -> HttpResponse:
    if wants_page(request):
        return render(request, "404.html", status=404)
    return _in_words(_("This is not here any more, or not yours to see. Reload the page."), 404)


def broken(request: HttpRequest) -> HttpResponse:
    """An error of ours, or a database that is away for the moment: 503, which says that it is worth trying again."""
    away = isinstance(sys.exception(), (OperationalError, InterfaceError))
    status = 503 if away else 500
    if wants_page(request):
        # Without the request: whose it is would be asked of the database.
        answer = HttpResponse(render_to_string("500.html", {"away": away}), status=status)
    else:
        answer = _in_words(_("This was not done: something went wrong on our side. Try again in a moment."), status)
    if away:
        answer["Retry-After"] = str(BACK_IN_S)
    return answer
