"""Who has begun an attempt holds a pass for its pieces: they come several times a second, and the database is not asked each time who
sends them and whose attempt it is. A pass is of one attempt and one signed-in browser, and good for some minutes; a piece that comes
without a good one, and whatever is no plain "goes on", goes the long way (``views.piece``).
"""

from __future__ import annotations

import uuid
from collections.abc import Callable

from django.conf import settings
from django.core import signing
from django.http import HttpRequest, HttpResponseBase, JsonResponse
from django.urls import reverse

from didactor.practice.live import GOING, Standing, ask
from didactor.practice.models import Attempt
from didactor.practice.services import AttemptRefused, OutOfStep, add_piece
from didactor.web.numbers import read_id

HEADER, SAMPLES = "X-Pass", "application/octet-stream"
#: An attempt lasts three minutes at most.
GOOD_FOR_S = 600


def pass_for(request: HttpRequest, attempt: Attempt) -> str:
    """The pass that this browser is given for an attempt that it may play."""
    return _signer(request, attempt.pk).sign(str(attempt.rate))


def by_pass(get_response: Callable[[HttpRequest], HttpResponseBase]) -> Callable[[HttpRequest], HttpResponseBase]:
    """Before anybody is looked up. The header is of our own making, so no page of another site can send it."""

    def middleware(request: HttpRequest) -> HttpResponseBase:
        by_it = request.method == "POST" and request.content_type == SAMPLES and HEADER in request.headers
        attempt = _held(request) if by_it else None
        answer = _goes_on(request, attempt) if attempt is not None else None
        return get_response(request) if answer is None else answer

    return middleware


def _signer(request: HttpRequest, attempt_id: uuid.UUID) -> signing.TimestampSigner:
    return signing.TimestampSigner(salt=f"attempt {attempt_id} {request.COOKIES.get(settings.SESSION_COOKIE_NAME, '')}")


def _held(request: HttpRequest) -> Attempt | None:
    """The attempt that the address and the pass name, not looked up; one of which nothing lies here is none."""
    try:
        attempt_id = uuid.UUID(request.path.rstrip("/").rpartition("/")[2])
        if request.path != reverse("practice:piece", args=[attempt_id]):
            return None
        rate = int(_signer(request, attempt_id).unsign(request.headers[HEADER], max_age=GOOD_FOR_S))
    except (ValueError, signing.BadSignature):
        return None
    attempt = Attempt(pk=attempt_id, rate=rate)
    return attempt if attempt.samples_path.exists() else None


def _goes_on(request: HttpRequest, attempt: Attempt) -> HttpResponseBase | None:
    offset, body = read_id(request.GET.get("at")), request.body
    if offset is None or len(body) % 2 or "last" in request.GET:
        return None
    try:
        size = add_piece(attempt, offset, body)
    except (OutOfStep, AttemptRefused, OSError):
        return None
    standing = ask(attempt.pk, body, rate_hz=attempt.rate, heard_s=size / 2 / attempt.rate)
    if standing.state == GOING:
        return JsonResponse({"state": GOING, "waits": standing.waits})
    # That it is over is told once: asked again, somebody would have to listen again.
    request._standing = standing  # type: ignore[attr-defined]
    return None


def already_told(request: HttpRequest) -> Standing | None:
    """How an attempt stands whose piece came by pass and did not simply go on."""
    return getattr(request, "_standing", None)
