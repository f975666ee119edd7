"""Who may open which kind of page. What they may see on it is decided by the querysets' ``visible_to``: strangers get 404."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.http import Http404, HttpRequest, HttpResponseBase

from didactor.web.refusals import sign_in_first

View = Callable[..., HttpResponseBase]


def only(*roles: str) -> Callable[[View], View]:
    """Let only signed-in people of these roles in; others are sent to sign in or told the page does not exist."""

    def decorate(view: View) -> View:
        @wraps(view)
        def guarded(request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponseBase:
            if not request.user.is_authenticated:
                return sign_in_first(request)
            if request.user.role not in roles:  # type: ignore[union-attr]
                raise Http404
            return view(request, *args, **kwargs)

        guarded.roles = roles  # type: ignore[attr-defined]
        return guarded

    return decorate


teacher_only = only("teacher")
student_only = only("student")
guardian_only = only("guardian")
family = only("student", "guardian")
anybody = only("teacher", "student", "guardian")
