from __future__ import annotations

from django.http import HttpRequest
from django_htmx.middleware import HtmxDetails

from didactor.people.models import Person


class Request(HttpRequest):
    """A request of somebody who is signed in, as the decorators of ``permissions`` let it through; for the types alone."""

    user: Person  # type: ignore[assignment]
    htmx: HtmxDetails
