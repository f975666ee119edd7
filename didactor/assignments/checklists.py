"""What a student listens for: good defaults by stage and by family of instruments, which the teacher may change."""

from __future__ import annotations

from collections.abc import Collection

from didactor.core.judging.categories import CATEGORIES

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


def checklist_for(stage: str, families: Collection[str]) -> list[str]:
    """Categories for a stage; one that concerns none of the families is left out."""
    families = set(families)
    left_out = set.intersection(*(set(_NOT_ASKED.get(f, ())) for f in families)) if families else set()
    wanted = set(_BY_STAGE.get(stage, CATEGORIES)) - left_out
    return [c for c in CATEGORIES if c in wanted]
