"""What a remark is about. The one list of categories: checklists, remarks, bar strips and titles all come from here."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from didactor.core.words import _


@dataclass(frozen=True, slots=True, kw_only=True)
class Category:
    """``gravity``: of several in one bar the one with the largest is shown in its cell."""

    slug: str
    title: str
    gravity: int


#: In the order of a checklist.
ALL = (
    Category(slug="notes", title=_("Notes"), gravity=11),
    Category(slug="intonation", title=_("Intonation"), gravity=8),
    Category(slug="rhythm", title=_("Rhythm and pulse"), gravity=9),
    Category(slug="tempo", title=_("Tempo"), gravity=7),
    Category(slug="flow", title=_("Keeping going"), gravity=10),
    Category(slug="dynamics", title=_("Dynamics"), gravity=5),
    Category(slug="articulation", title=_("Articulation"), gravity=4),
    Category(slug="tone", title=_("Tone"), gravity=3),
    Category(slug="hands", title=_("Hands and posture"), gravity=6),
    Category(slug="expression", title=_("Expression"), gravity=2),
    Category(slug="other", title=_("Something else"), gravity=1),
)
TITLES = {category.slug: category.title for category in ALL}
CATEGORIES = tuple(TITLES)
_GRAVITY = {category.slug: category.gravity for category in ALL}


def gravest(slugs: Iterable[str]) -> str:
    """The category that matters most among some; an empty string for none."""
    return max(slugs, key=lambda slug: _GRAVITY.get(slug, 0), default="")
