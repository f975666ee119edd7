"""A take's bars at a glance, as markup: lists show hundreds of cells, so it is made in one go."""

from __future__ import annotations

from collections.abc import Callable
from html import escape

from django.utils.safestring import SafeString

from didactor.core.formats.glance import UNJUDGED, BarCell, read_cell
from didactor.core.units import BEAT_UNIT_QUARTERS
from didactor.core.words import _, worded
from didactor.takes.models import Analysis

BARS = _("Bars")


class BarStrip(list[BarCell]):
    """Cells in the order of the bars; the style sheet has a sign for each category."""

    @property
    def as_list(self) -> SafeString:
        return self._written(lambda number, words: f'{number}<span class="visually-hidden">{words}</span>')

    @property
    def playable(self) -> SafeString:
        """Each cell plays its bar."""
        return self._written(
            lambda number, words: f'{number}<button type="button" data-play-bar="{number}" aria-label="{words} {_play(number)}"></button>'
        )

    def _written(self, content: Callable[[str, str], str]) -> SafeString:
        """Everything that comes from outside is escaped here, once for all places that it stands in."""
        if not self:
            return SafeString("")
        rows = []
        for cell in self:
            number, words = escape(cell.number), escape(cell.words)
            rows.append(f'<li class="{escape(_css(cell))}" title="{words}">{content(number, words)}</li>')
        return SafeString(f'<ol class="strip" aria-label="{escape(worded("Bars"))}">{"".join(rows)}</ol>')


def _play(number: str) -> str:
    return escape(worded("Play bar {number}.", number=number))


def _css(cell: BarCell) -> str:
    return cell.worst if cell.worst in ("", UNJUDGED) else f"{cell.worst} has"


def strip_of(analysis: Analysis | None) -> BarStrip:
    """The bars of a take at a glance, from the summary of what was heard."""
    cells = analysis.summary.get("strip", []) if analysis else []
    return BarStrip(read_cell(*cell) for cell in cells)


def played_tempo(analysis: Analysis | None, beat_unit: str) -> str:
    """The played tempo in the assignment's own beat unit, or nothing where it was not measured."""
    played = analysis.summary.get("played_qpm") if analysis else None
    return f"{played / BEAT_UNIT_QUARTERS[beat_unit]:.0f}" if played else ""
