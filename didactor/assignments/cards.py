"""Rhythm cards of a task, to print and cut out."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from django.core.cache import cache
from django.utils.translation import get_language

from didactor.assignments.models import Task
from didactor.core.formats.lanes.score import cropped
from didactor.core.score.open import engrave_isolated
from didactor.core.score.read.musicxml import prepare
from didactor.core.score.roadmap import bars_between
from didactor.core.score.study.rhythm_cards import cards_as_musicxml, rhythm_cards
from didactor.library.notation import read_part


@dataclass(frozen=True, kw_only=True)
class PrintedCard:
    """One card: its drawing, what to say, and in which bars it comes."""

    drawing: str
    spoken: str
    bars: str


def printed_cards(task: Task) -> list[PrintedCard]:
    """The cards of a task's passage; none where it has no whole bar of one voice. Raises ``CoreError`` where they cannot be drawn."""
    passage = task.passage
    # What is said with them is in the reader's words.
    key = f"cards:2:{passage.pk}:{get_language()}"
    found: list[PrintedCard] | None = cache.get(key)
    if found is None:
        part = read_part(passage.revision_id, passage.part)
        bars = {bar.index: bar for bar in bars_between(part, passage.bars)}
        cards = rhythm_cards(part.notes, bars)
        found = []
        if cards:
            prepared = prepare(cards_as_musicxml(cards))
            with ThreadPoolExecutor(max_workers=os.cpu_count()) as threads:
                engravings = threads.map(lambda bar: engrave_isolated(prepared, 1, str(bar), ("phone",))["phone"], range(1, len(cards) + 1))
            for card, engraving in zip(cards, engravings, strict=True):
                bar = next(iter(engraving.geometry["bars"].values()))
                drawing = cropped(engraving.svg, bar["first_x"] - 250.0, bar["x1"] + 60.0)
                found.append(PrintedCard(drawing=drawing, spoken=" ".join(w or "–" for w in card.spoken), bars=", ".join(card.bars)))
        cache.set(key, found, timeout=None)
    return found
