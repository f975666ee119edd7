"""What pages need is loaded before anybody asks for one, and before the processes that serve them part."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.template import engines
from django.template.loader import get_template
from django.urls import reverse
from django.utils.translation import override


def load_pages() -> int:
    """Addresses with all that their views bring along, our own templates, and what is said in each language. Returns how many templates."""
    reverse("home")
    for language, _ in settings.LANGUAGES:
        with override(language):
            """To speak it is to load what is said in it."""
    names = {
        str(file.relative_to(folder))
        for folder in engines["django"].template_dirs
        if Path(folder).is_relative_to(settings.ROOT / "didactor")
        for file in Path(folder).rglob("*.*")
    }
    for name in names:
        get_template(name)
    return len(names)
