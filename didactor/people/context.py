from __future__ import annotations

from typing import Any

from django.http import HttpRequest

PAPERS = ("auto", "light", "dark")


def shell(request: HttpRequest) -> dict[str, Any]:
    """What every page's frame needs: the chosen paper."""
    paper = request.COOKIES.get("paper", "auto")
    return {"paper": paper if paper in PAPERS else "auto"}
