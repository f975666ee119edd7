"""A take's bars at a glance, as markup: lists show hundreds of cells, so it is made in one go."""

from __future__ import annotations

from collections.abc import Callable

from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

from didactor.core.formats.glance import UNJUDGED, BarCell
from didactor.core.units import BEAT_UNIT_QUARTERS
from didactor.takes.models import Analysis


class BarStrip(list[BarCell]):
    """Cells in the order of the bars; the style sheet has a sign for each category."""

    @property
    def as_list(self) -> SafeString:
        return self._written('{}<span class="visually-hidden">{}</span>', lambda cell: (cell.number, cell.words))

    @property
    def playable(self) -> SafeString:
        """Each cell plays its bar."""
        button = '{}<button type="button" data-play-bar="{}" aria-label="{} Play bar {}."></button>'
        return self._written(button, lambda cell: (cell.number, cell.number, cell.words, cell.number))

    def _written(self, content: str, values: Callable[[BarCell], tuple[str, ...]]) -> SafeString:
        if not self:
            return SafeString("")
        rows = ((_css(cell), cell.words, *values(cell)) for cell in self)
        return format_html(
            '<ol class="strip" aria-label="Bars">{}</ol>', format_html_join("", f'<li class="{{}}" title="{{}}">{content}</li>', rows)
        )


def _css(cell: BarCell) -> str:
    return cell.worst if cell.worst in ("", UNJUDGED) else f"{cell.worst} has"


def strip_of(analysis: Analysis | None) -> BarStrip:
    """The bars of a take at a glance, from the summary of what was heard."""
    cells = analysis.summary.get("strip", []) if analysis else []
    return BarStrip(BarCell(number=number, worst=worst, words=words) for number, worst, words in cells)


def played_tempo(analysis: Analysis | None, beat_unit: str) -> str:
    """The played tempo in the assignment's own beat unit, or nothing where it was not measured."""
    played = analysis.summary.get("played_qpm") if analysis else None
    return f"{played / BEAT_UNIT_QUARTERS[beat_unit]:.0f}" if played else ""
