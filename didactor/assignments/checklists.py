"""What a student listens for: good defaults by stage and by family of instruments, which the teacher may change."""

from __future__ import annotations

from collections.abc import Collection

from didactor.core.judging.categories import CATEGORIES, TITLES
from didactor.core.words import _

_BY_STAGE = {
    "first_reading": ("notes", "hands", "other"),
    "steady": ("notes", "intonation", "rhythm", "flow", "hands", "other"),
    "at_tempo": ("notes", "intonation", "rhythm", "tempo", "dynamics", "articulation", "tone", "hands", "expression", "other"),
    # Count-off and pulse, never stopping, the key kept, dynamics, hands ready before their entry.
    "sight_reading": ("flow", "rhythm", "notes", "dynamics", "hands"),
    "rehearsal": ("notes", "intonation", "rhythm", "tempo", "flow", "dynamics", "articulation", "tone", "expression", "other"),
    "final": ("notes", "intonation", "rhythm", "tempo", "flow", "dynamics", "articulation", "tone", "expression", "other"),
}
#: Who cannot play out of tune, and whose tone is not theirs to shape, is not asked about it.
_NOT_ASKED = {
    "keys": ("intonation", "tone"),
    "percussion": ("intonation", "notes"),
    "fretted": ("intonation",),
}


#: What a row in a teacher's own words is called before them, and how many of what length a list takes.
OWN = "own:"
MOST_ROWS, LONGEST_ROW = 6, 60
#: A list for children who hardly read has pictures, these few rows and these words.
PICTURES = {
    "notes": _("The right notes"),
    "rhythm": _("A steady beat"),
    "flow": _("Played on to the end"),
    "dynamics": _("Loud and soft"),
    "tone": _("A beautiful sound"),
    "hands": _("Fingers and hands"),
}
MOST_PICTURES = 4


def rows_of(slugs: Collection[str], own: Collection[str], pictures: bool = False) -> list[tuple[str, str]]:
    """The rows of a list: name and words of each category, then of the teacher's own rows. ``pictures``: few of them, in plain words."""
    if pictures:
        few = [(slug, PICTURES[slug]) for slug in slugs if slug in PICTURES][:MOST_PICTURES]
        return few + [(OWN + words, words) for words in own]
    return [(slug, TITLES[slug]) for slug in slugs if slug in TITLES] + [(OWN + words, words) for words in own]


def title_of(row: str) -> str:
    """The words of a row by its name; empty for none."""
    return row.removeprefix(OWN) if row.startswith(OWN) else TITLES.get(row, "")


def checklist_for(stage: str, families: Collection[str]) -> list[str]:
    """Categories for a stage; one that concerns none of the families is left out."""
    families = set(families)
    left_out = set.intersection(*(set(_NOT_ASKED.get(f, ())) for f in families)) if families else set()
    wanted = set(_BY_STAGE.get(stage, CATEGORIES)) - left_out
    return [c for c in CATEGORIES if c in wanted]
