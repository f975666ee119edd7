from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils.translation import get_language

from didactor.people.languages import CHOICES, ENGLISH
from didactor.web.words_for_pages import address_of

PAPERS = ("auto", "light", "dark")


def shell(request: HttpRequest) -> dict[str, Any]:
    """What every page's frame needs: the chosen paper, which other languages there are, and what scripts say."""
    paper = request.COOKIES.get("paper", "auto")
    spoken = (get_language() or ENGLISH).split("-")[0]
    others = [(code, name) for code, name in CHOICES.items() if code != spoken]
    return {
        "paper": paper if paper in PAPERS else "auto",
        "other_languages": others,
        "words_address": address_of(get_language() or ENGLISH),
    }
