"""A form that is sent twice does its work once: a double click, a reload, a telephone that tries again.

Every form carries a number of its own. The first request with that number and that content does the work; others wait a moment for it
and are led where it led. The same form with other content (somebody went back and changed it) is another one. Only what ended in a
redirect, or ``done``, is remembered: a form that was refused can be sent again.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable
from datetime import timedelta

from django.contrib import messages
from django.db import IntegrityError, transaction
from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import redirect
from django.utils import timezone
from django.utils.http import url_has_allowed_host_and_scheme

from didactor.core.words import worded
from didactor.people.models import SentForm

#: How long a second request waits for the first, and from when on the first is held for lost, seconds.
WAITS_S, LOST_S = 5.0, 60.0
REMEMBERED = timedelta(days=2)


def once(get_response: Callable[[HttpRequest], HttpResponseBase]) -> Callable[[HttpRequest], HttpResponseBase]:
    def middleware(request: HttpRequest) -> HttpResponseBase:
        number = request.POST.get("once", "") if request.method == "POST" else ""
        if not number or not request.user.is_authenticated:
            return get_response(request)
        key = _key(request, number)
        if not _is_first(key):
            return _where_the_first_led(request, key)
        location = ""
        try:
            response = get_response(request)
            location = response["Location"] if response.status_code in (302, 303) else getattr(response, "_repeated_leads_to", "")
        finally:
            if location:
                SentForm.objects.filter(key=key).update(location=location[:500])
            else:
                SentForm.objects.filter(key=key).delete()
        return response

    return middleware


def done(response: HttpResponse, leads_to: str) -> HttpResponse:
    """Say of a page that answers a form that its work is done; sent again, the form leads to this address."""
    response._repeated_leads_to = leads_to  # type: ignore[attr-defined]
    return response


def _key(request: HttpRequest, number: str) -> str:
    digest = hashlib.sha256(f"{request.user.pk}\0{request.get_full_path()}\0{number}".encode())
    for name, values in sorted(request.POST.lists()):
        digest.update("\0".join(("", name, *values)).encode())
    for name, files in sorted(request.FILES.lists()):
        digest.update("\0".join(("", name, *(f"{file.name} {file.size}" for file in files))).encode())
    return digest.hexdigest()


def _is_first(key: str) -> bool:
    try:
        with transaction.atomic():
            SentForm.objects.create(key=key)
    except IntegrityError:
        lost = SentForm.objects.filter(key=key, location="", sent_at__lt=timezone.now() - timedelta(seconds=LOST_S))
        return bool(lost.update(sent_at=timezone.now()))
    return True


def _where_the_first_led(request: HttpRequest, key: str) -> HttpResponseBase:
    until = time.monotonic() + WAITS_S
    while time.monotonic() < until:
        first = SentForm.objects.filter(key=key).first()
        if first is None:  # it was refused; its page says why
            break
        if first.location:
            return redirect(first.location)
        time.sleep(0.1)
    messages.info(request, worded("This was sent twice. The first is still being worked on, or was refused: look whether it is there."))
    back = request.headers.get("Referer", "")
    return redirect(back if url_has_allowed_host_and_scheme(back, {request.get_host()}) else "home")


def forget_sent_forms() -> int:
    """Remove what was remembered of forms for long enough. Returns how many."""
    return SentForm.objects.filter(sent_at__lt=timezone.now() - REMEMBERED).delete()[0]
