"""What became, in a later take, of the bars that an earlier one had something to mend in."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from didactor.core.formats.glance import UNJUDGED, BarCell
from didactor.core.words import counted, listed, worded


@dataclass(frozen=True, slots=True, kw_only=True)
class Since:
    """Bars, in order: mended, there still, and new ones. A bar that could not be judged in either take is in none of them."""

    mended: tuple[str, ...]
    still: tuple[str, ...]
    new: tuple[str, ...]

    @property
    def says(self) -> str:
        """“Since the last take: bars 3 and 7 mended; bar 5 still.”; nothing where there was nothing to mend."""
        parts = [worded("{bars} mended", bars=_bars(self.mended))] if self.mended else []
        parts += [worded("{bars} still", bars=_bars(self.still))] if self.still else []
        if parts and self.new:
            parts.append(worded("{bars} new", bars=_bars(self.new)))
        return worded("Since the last take: {parts}.", parts="; ".join(parts)) if parts else ""


def since_last(before: Iterable[BarCell], after: Iterable[BarCell]) -> Since:
    """Compare two strips of the same passage."""
    then = {cell.number: cell.worst for cell in before}
    mended: list[str] = []
    still: list[str] = []
    new: list[str] = []
    for cell in after:
        was = then.get(cell.number, UNJUDGED)
        if UNJUDGED in (was, cell.worst):
            continue
        if was:
            (still if cell.worst else mended).append(cell.number)
        elif cell.worst:
            new.append(cell.number)
    return Since(mended=tuple(mended), still=tuple(still), new=tuple(new))


def _bars(numbers: Sequence[str]) -> str:
    """“bar 3”, “bars 3, 4 and 7”."""
    return counted("bar {bars}", "bars {bars}", len(numbers), bars=listed(numbers))


# -1]), numbers_2=numbers[-1])
