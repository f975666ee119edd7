"""Who is asking: the address of a client, behind as many proxies as the operator trusts."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest


def client_address(request: HttpRequest) -> str:
    """The address that the outermost trusted proxy saw, or that of the connection: what a client says of itself is not believed."""
    own: str = request.META.get("REMOTE_ADDR", "")
    trusted = settings.TRUSTED_PROXIES
    if trusted <= 0:
        return own
    told = [part.strip() for part in request.META.get("HTTP_X_FORWARDED_FOR", "").split(",") if part.strip()]
    return told[-trusted] if len(told) >= trusted else own
