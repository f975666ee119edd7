"""A teacher's own phrases: what they wrote as remarks before, the most used first. The bank grows by use, and nothing is kept twice."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass

from didactor.people.models import Person
from didactor.review.models import Mark, Origin

#: The newest remarks that are looked at, phrases that are offered, and the shortest that is one.
REMARKS_LOOKED_AT, OFFERED, SHORTEST = 1000, 40, 8
#: A phrase holds for any bar, tempo and finger: what stood there is put in again where it is used.
_PLACES = (
    (re.compile(r"\b([Bb]ars?) \d+[a-z]?\b"), r"\1 {bar}"),
    (re.compile(r"(\bat|=) \d{2,3}\b"), r"\1 {tempo}"),
    (re.compile(r"\b(finger) \d\b"), r"\1 {finger}"),
)
#: The name of a note, at the end of its id.
_NOTE = re.compile(r"-([A-G])(s{1,2}|b{1,2})?-?\d+$")
_ACCIDENTALS = {"s": ("♯", "#", " sharp"), "b": ("♭", "b", " flat"), "ss": ("𝄪", "##"), "bb": ("𝄫", "bb")}


@dataclass(frozen=True, kw_only=True)
class Phrase:
    """``text`` with ``{bar}``, ``{tempo}``, ``{finger}`` and ``{note}`` where these stood; ``category`` as it was used most."""

    text: str
    category: str
    used: int


def phrases_of(teacher: Person) -> list[Phrase]:
    """The most used first; of equals the newest."""
    remarks = Mark.objects.filter(review__teacher=teacher, origin=Origin.TEACHER).order_by("-pk")
    used: Counter[str] = Counter()
    categories: dict[str, Counter[str]] = {}
    for text, category, note_ids in remarks.values_list("text", "category", "note_ids")[:REMARKS_LOOKED_AT]:
        phrase = _for_any_place(text.strip(), note_ids)
        if len(phrase) >= SHORTEST:
            used[phrase] += 1
            categories.setdefault(phrase, Counter())[category] += 1
    return [Phrase(text=text, category=categories[text].most_common(1)[0][0], used=count) for text, count in used.most_common(OFFERED)]


def _for_any_place(text: str, note_ids: list[str]) -> str:
    """A remark without its place. Of the note that it is pinned to the name is taken out, but for a lone A, which may be an article."""
    for pattern, instead in _PLACES:
        text = pattern.sub(instead, text)
    match = _NOTE.search(note_ids[0]) if note_ids else None
    if match is None:
        return text
    step, accidental = match.groups()
    names = [step + sign for sign in _ACCIDENTALS[accidental]] if accidental else [step] if step != "A" else []
    for name in names:
        text = re.sub(rf"(?<![\w{{]){re.escape(name)}(?![\w♯♭#])", "{note}", text)
    return text
