"""Thinking time: the pauses before each bar, take after take. In a first reading they are right, and shrink over the days."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from lxml import etree

from didactor.core.formats.result import Result
from didactor.core.words import worded

SVG = "http://www.w3.org/2000/svg"
#: Of the drawing: room for a bar and for a take, the left margin, and the largest circle, which stands for so many seconds and more.
BAR, ROW, LEFT, LARGEST, LARGEST_S = 30.0, 26.0, 62.0, 11.0, 4.0
MOST_ROWS = 8


@dataclass(frozen=True, slots=True, kw_only=True)
class Thinking:
    """One take: seconds of pauses by the bar before, or in, which they were made."""

    name: str
    pauses: dict[str, float]

    @property
    def total_s(self) -> float:
        return sum(self.pauses.values())


def thinking_times(takes: Sequence[tuple[str, Result]]) -> list[Thinking]:
    """The takes that could be heard, in their order, the last ``MOST_ROWS`` of them."""
    found = []
    for name, result in takes:
        if result.notes is None or result.pulse is None:
            continue
        pauses: dict[str, float] = {}
        for pause in result.pulse.hesitations:
            pauses[pause.bar] = pauses.get(pause.bar, 0.0) + pause.extra_s
        found.append(Thinking(name=name, pauses=pauses))
    return found[-MOST_ROWS:]


def thinking_in_words(rows: Sequence[Thinking]) -> str:
    """“Thinking time: 14 s, 6 s, 2 s; the longest before bar 5.” Empty where there is nothing to compare."""
    if len(rows) < 2 or not any(row.pauses for row in rows):
        return ""
    said = ", ".join(f"{row.total_s:.0f} s" for row in rows)
    last = rows[-1].pauses
    if not last:
        return worded("Thinking time, take by take: {seconds}.", seconds=said)
    return worded(
        "Thinking time, take by take: {seconds}; the longest now in bar {bar}.", seconds=said, bar=max(last, key=lambda bar: last[bar])
    )


def draw_thinking(rows: Sequence[Thinking], bars: Sequence[str]) -> str:
    """Takes downwards, bars across, a circle for each pause, its area by its length. SVG without styles."""
    width, height = LEFT + BAR * len(bars), ROW * (len(rows) + 1)
    root = etree.fromstring(f'<svg xmlns="{SVG}" viewBox="0 0 {width:g} {height:g}" class="thinking" role="img"/>')
    root.set("aria-label", thinking_in_words(rows))

    def add(tag: str, text: str = "", **attributes: str) -> None:
        element = etree.SubElement(root, f"{{{SVG}}}{tag}", attributes)
        element.text = text or None

    for k, bar in enumerate(bars):
        add("text", bar, x=f"{LEFT + BAR * (k + 0.5):g}", y="12", **{"text-anchor": "middle"})
    for number, row in enumerate(rows):
        y = ROW * (number + 1.5)
        add("text", row.name, x="0", y=f"{y + 4:g}")
        add("path", d=f"M{LEFT:g},{y:g} H{width:g}")
        for k, bar in enumerate(bars):
            seconds = row.pauses.get(bar, 0.0)
            if seconds > 0:
                radius = LARGEST * math.sqrt(min(1.0, seconds / LARGEST_S))
                add("circle", cx=f"{LEFT + BAR * (k + 0.5):g}", cy=f"{y:g}", r=f"{max(2.0, radius):.1f}")
    return str(etree.tostring(root, encoding="unicode"))
