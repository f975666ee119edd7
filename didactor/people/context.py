from __future__ import annotations

from typing import Any

from django.http import HttpRequest

PAPERS = ("auto", "light", "dark")


def shell(request: HttpRequest) -> dict[str, Any]:
    """What every page's frame needs: the chosen paper, and what waits for a teacher."""
    paper = request.COOKIES.get("paper", "auto")
    context: dict[str, Any] = {"paper": paper if paper in PAPERS else "auto"}
    user = getattr(request, "user", None)
    if user is not None and user.is_authenticated and user.is_teacher:
        from didactor.takes.models import Submission

        context["waiting_count"] = Submission.objects.awaiting_review_by(user).count()
    return context
