"""Passages drawn for pages: engravings with something laid over them, from the cache or made now."""

from __future__ import annotations

from collections.abc import Callable

from django.conf import settings
from django.core.cache import cache
from django.utils.translation import get_language

from didactor.core.formats.lanes import plain_score
from didactor.core.score.write.engraving import ACROSS, LAYOUTS
from didactor.library.models import Engraving, Passage
from didactor.library.notation import ENGRAVER, engravings_of
from didactor.web.speaking import NAMINGS, naming_spoken

#: Goes up when marks or lanes are drawn otherwise.
DRAWING_VERSION = 13


def bar_numbers(passage: Passage) -> dict[str, str]:
    """Bar ids of the engraving to printed numbers."""
    return {bar["id"]: bar["number"] for bar in passage.part_entry["bars"]}


def plain_drawings(passage: Passage, layouts: tuple[str, ...] = ACROSS) -> dict[str, str]:
    """The passage as SVG for each layout, with bars to touch."""
    return drawn(f"plain:{passage.pk}", passage, layouts, _plain)


def _plain(engraving: Engraving, passage: Passage) -> str:
    return plain_score(engraving.svg, engraving.geometry, bar_numbers(passage))


def drawn(key: str, passage: Passage, layouts: tuple[str, ...], draw: Callable[[Engraving, Passage], str]) -> dict[str, str]:
    """Drawings by layout. ``key`` must name what is drawn: what has it never changes."""
    keys = {layout: full_key(key, layout) for layout in layouts}
    kept: dict[str, str] = cache.get_many(keys.values())
    missing = [layout for layout in layouts if keys[layout] not in kept]
    if missing:
        found = engravings_of(revision=passage.revision, part=passage.part, bars=passage.bars, layouts=missing)
        made = {keys[layout]: draw(engraving, passage) for layout, engraving in found.items()}
        cache.set_many(made, timeout=None)
        kept |= made
    return {layout: kept[full_key] for layout, full_key in keys.items()}


def forget(key: str) -> None:
    """Take drawings out of the cache, in every layout and all words."""
    spoken = [f"{language}-{naming}" for language, _name in settings.LANGUAGES for naming in NAMINGS]
    cache.delete_many([full_key(key, layout, words) for layout in LAYOUTS for words in spoken])


def full_key(key: str, layout: str, words: str | None = None) -> str:
    """What stands on a drawing is in the reader's words."""
    words = words or f"{get_language()}-{naming_spoken()}"
    return f"{DRAWING_VERSION}:{ENGRAVER}:{key}:{layout}:{words}"
