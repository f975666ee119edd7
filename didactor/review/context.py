from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from didactor.assignments.models import Task
from didactor.takes.models import Submission


def waiting(request: HttpRequest) -> dict[str, Any]:
    """How many takes and answers in words wait for this teacher, for the frame of every page."""
    user = getattr(request, "user", None)
    if user is None or not user.is_authenticated or not user.is_teacher:
        return {}

    def count() -> int:
        takes = Submission.objects.awaiting_review_by(user).values("pk")
        words = Task.objects.answers_waiting_for(user).order_by().values("pk")
        return takes.union(words, all=True).count()

    # Asked for by pages that show it alone.
    return {"waiting_count": SimpleLazyObject(count)}
