"""A teacher's own phrases: what they wrote as remarks before, the most used first. The bank grows by use, and nothing is kept twice."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass

from didactor.people.models import Person
from didactor.review.models import Mark, Origin

#: The newest remarks that are looked at, phrases that are offered, and the shortest that is one.
REMARKS_LOOKED_AT, OFFERED, SHORTEST = 1000, 40, 8
#: A phrase holds for any bar: its number is put in again where it is used.
_BAR = re.compile(r"\b([Bb]ars?) \d+[a-z]?\b")


@dataclass(frozen=True, kw_only=True)
class Phrase:
    """``text`` with ``{bar}`` where a bar's number stood; ``category`` as it was used most."""

    text: str
    category: str
    used: int


def phrases_of(teacher: Person) -> list[Phrase]:
    """The most used first; of equals the newest."""
    remarks = Mark.objects.filter(review__teacher=teacher, origin=Origin.TEACHER).order_by("-pk").values_list("text", "category")
    used: Counter[str] = Counter()
    categories: dict[str, Counter[str]] = {}
    for text, category in remarks[:REMARKS_LOOKED_AT]:
        phrase = _BAR.sub(r"\1 {bar}", text.strip())
        if len(phrase) >= SHORTEST:
            used[phrase] += 1
            categories.setdefault(phrase, Counter())[category] += 1
    return [Phrase(text=text, category=categories[text].most_common(1)[0][0], used=count) for text, count in used.most_common(OFFERED)]
