"""Sessions, each with whose it is and on which kind of device, so that they can be looked at and ended one by one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.contrib.sessions.backends.db import SessionStore as DatabaseStore
from django.http import HttpRequest, HttpResponseBase
from django.utils import timezone
from ua_parser import parse

from didactor.people.models import Person, SignedIn


class SessionStore(DatabaseStore):
    @classmethod
    def get_model_class(cls) -> type[SignedIn]:
        return SignedIn

    def create_model_instance(self, data: dict[str, Any]) -> SignedIn:
        row: SignedIn = super().create_model_instance(data)  # type: ignore[assignment]
        row.person_number = int(data["_auth_user_id"]) if "_auth_user_id" in data else None
        row.device, row.seen_on = data.get("device", "")[:80], data.get("seen_on")
        row.since = data.get("since") or timezone.now()
        return row


def noted(get_response: Callable[[HttpRequest], HttpResponseBase]) -> Callable[[HttpRequest], HttpResponseBase]:
    """Once a day a session is written down as used."""

    def middleware(request: HttpRequest) -> HttpResponseBase:
        response = get_response(request)
        today = timezone.localdate().isoformat()
        # Whether somebody is signed in is asked of the session: pages that need nobody load nobody.
        if request.session.accessed and "_auth_user_id" in request.session and request.session.get("seen_on") != today:
            request.session.setdefault("since", timezone.now().isoformat())
            request.session["device"] = device_in_words(request.headers.get("User-Agent", ""))
            request.session["seen_on"] = today
        return response

    return middleware


def device_in_words(agent: str) -> str:
    """“Firefox on Android”, as far as a browser says what it is."""
    found = parse(agent[:400])
    browser = found.user_agent.family if found.user_agent else "Browser"
    return f"{browser}, {found.os.family}" if found.os else browser


def sessions_of(person: Person) -> list[SignedIn]:
    """Those that have not run out, the last used first."""
    return list(SignedIn.objects.filter(person_number=person.pk, expire_date__gt=timezone.now()).order_by("-seen_on", "-since"))


def end_one(person: Person, since: str) -> bool:
    """End the session of a person that began at this moment, as its line has it. Its key is never shown, not even to them."""
    for row in sessions_of(person):
        if row.since.isoformat() == since:
            row.delete()
            return True
    return False
