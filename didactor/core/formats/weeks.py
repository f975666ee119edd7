"""Pictures of a student's weeks: tempi by piece, what was heard by category, minutes a week. SVG without styles, for page and paper."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from datetime import date, timedelta

from lxml import etree

from didactor.core.comparing.over_weeks import TakeThen, TempoLine
from didactor.core.words import worded

SVG = "http://www.w3.org/2000/svg"
#: Of every drawing: its width, the left margin with names, the right one with figures, one row, and the row of dates.
WIDTH, LEFT, RIGHT, ROW, DATES = 720.0, 210.0, 70.0, 46.0, 22.0
#: Names longer than this are cut: their whole is in the table.
NAME_CHARACTERS = 30
DOT, MOST = 3.4, 9.0


class _Drawing:
    def __init__(self, height: float, label: str) -> None:
        self.root = etree.fromstring(f'<svg xmlns="{SVG}" viewBox="0 0 {WIDTH:g} {height:g}" class="weeks" role="img"/>')
        self.root.set("aria-label", label)

    def add(self, tag: str, text: str = "", **attributes: str | float) -> None:
        values = {name.replace("_", "-").strip("-"): f"{v:.1f}" if isinstance(v, float) else v for name, v in attributes.items()}
        element = etree.SubElement(self.root, f"{{{SVG}}}{tag}", values)
        element.text = text or None

    def name(self, text: str, y: float) -> None:
        shown = text if len(text) <= NAME_CHARACTERS else f"{text[: NAME_CHARACTERS - 1].rstrip()}…"
        self.add("text", shown, x=0.0, y=y, class_="name")

    def __str__(self) -> str:
        return str(etree.tostring(self.root, encoding="unicode"))


class _Weeks:
    """Days to x, with a date every few weeks."""

    def __init__(self, first: date, last: date) -> None:
        self.first, self.days = first, max(7, (last - first).days)

    def x(self, day: date) -> float:
        return LEFT + (WIDTH - LEFT - RIGHT) * min(1.0, max(0.0, (day - self.first).days / self.days))

    def write(self, drawing: _Drawing, y: float) -> None:
        step = max(1, math.ceil(self.days / 7 / 6))
        for week in range(0, self.days // 7 + 1, step):
            day = self.first + timedelta(weeks=week)
            drawing.add("text", f"{day.day} {day:%b}", x=self.x(day), y=y, class_="date", text_anchor="middle")


def draw_tempi(lines: Sequence[TempoLine]) -> str:
    """A row for each piece: a dot a take at its tempo, full where it was clean, and the fastest clean tempo so far as a line."""
    takes = [take for line in lines for take in line.takes]
    weeks = _Weeks(min(t.day for t in takes), max(t.day for t in takes))
    drawing = _Drawing(
        ROW * len(lines) + DATES, worded("Tempo of each take over the weeks, by piece; the table below has the same in figures.")
    )
    for row, line in enumerate(lines):
        top, base = ROW * row + 8, ROW * (row + 1) - 8
        tempi = [take.tempo or 0.0 for take in line.takes]
        low, high = min(tempi), max(tempi)
        spread = max(high - low, 0.1 * high)

        def y(tempo: float, low: float = low, spread: float = spread, base: float = base, top: float = top) -> float:
            return base - (base - top) * (tempo - low) / spread

        drawing.name(line.piece, base - 10)
        drawing.add("text", line.unit, x=0.0, y=base + 2, class_="date")
        drawing.add("path", d=f"M{LEFT:g},{base + 6:g} H{WIDTH - RIGHT:g}", class_="ground")
        known = [(weeks.x(take.day), y(best)) for take, best in zip(line.takes, line.best, strict=True) if best is not None]
        if len(known) > 1:
            steps = "".join(f" H{x:.1f} V{at:.1f}" for x, at in known[1:])
            drawing.add("path", d=f"M{known[0][0]:.1f},{known[0][1]:.1f}{steps}", class_="best")
        for take, tempo in zip(line.takes, tempi, strict=True):
            drawing.add("circle", cx=weeks.x(take.day), cy=y(tempo), r=DOT, class_="clean" if take.is_clean else "with")
        best = line.best[-1]
        drawing.add(
            "text",
            worded("{best:.0f} clean", best=best) if best is not None else worded("not yet clean"),
            x=WIDTH,
            y=base - 6,
            class_="figure",
            text_anchor="end",
        )
    weeks.write(drawing, ROW * len(lines) + 16)
    return str(drawing)


def draw_thinking(lines: Sequence[tuple[str, Sequence[TakeThen]]]) -> str:
    """A row for each piece in its first reading: a line through the seconds of pauses of each take."""
    takes = [take for _, own in lines for take in own]
    weeks = _Weeks(min(t.day for t in takes), max(t.day for t in takes))
    drawing = _Drawing(
        ROW * len(lines) + DATES, worded("Thinking time of each first reading, by piece; the table below has the same in figures.")
    )
    for row, (piece, own) in enumerate(lines):
        top, base = ROW * row + 8, ROW * (row + 1) - 8
        most = max(take.thinking_s or 0.0 for take in own)
        points = [(weeks.x(take.day), base - (base - top) * (take.thinking_s or 0.0) / most) for take in own]
        drawing.name(piece, base - 10)
        drawing.add("path", d=f"M{LEFT:g},{base:g} H{WIDTH - RIGHT:g}", class_="ground")
        drawing.add("path", d="M" + " L".join(f"{x:.1f},{y:.1f}" for x, y in points), class_="best")
        for x, y in points:
            drawing.add("circle", cx=x, cy=y, r=DOT, class_="with")
        told = f"{own[0].thinking_s:.0f} s → {own[-1].thinking_s:.0f} s"
        drawing.add("text", told, x=WIDTH, y=base - 6, class_="figure", text_anchor="end")
    weeks.write(drawing, ROW * len(lines) + 16)
    return str(drawing)


def draw_categories(takes: Sequence[TakeThen], titles: Mapping[str, str]) -> str:
    """A row for each category that was heard, a column for each take, the dot's area by how often."""
    used = [slug for slug in titles if any(take.categories.get(slug) for take in takes)]
    drawing = _Drawing(
        26.0 * len(used) + DATES, worded("What was heard in each take, by category; the table below has the same in figures.")
    )
    step = (WIDTH - LEFT - RIGHT) / max(1, len(takes))
    for row, slug in enumerate(used):
        y = 26.0 * row + 14
        drawing.name(titles[slug], y + 4)
        drawing.add("path", d=f"M{LEFT:g},{y:g} H{WIDTH - RIGHT:g}", class_="ground")
        for k, take in enumerate(takes):
            count = take.categories.get(slug, 0)
            if count:
                radius = min(MOST, 2.6 * math.sqrt(count))
                drawing.add("circle", cx=LEFT + step * (k + 0.5), cy=y, r=radius, class_="heard")
        drawing.add(
            "text",
            worded("{sum} of {takes}", sum=sum(bool(t.categories.get(slug)) for t in takes), takes=len(takes)),
            x=WIDTH,
            y=y + 4,
            class_="figure",
            text_anchor="end",
        )
    every = max(1, math.ceil(len(takes) / 6))
    for k in range(0, len(takes), every):
        day = takes[k].day
        drawing.add("text", f"{day.day} {day:%b}", x=LEFT + step * (k + 0.5), y=26.0 * len(used) + 14, class_="date", text_anchor="middle")
    return str(drawing)


def draw_minutes(minutes: Sequence[tuple[date, float]]) -> str:
    """A bar for each week, from its Monday, with its minutes above."""
    drawing = _Drawing(110.0, worded("Minutes practised and recorded, week by week."))
    most = max((m for _, m in minutes), default=0.0) or 1.0
    step = (WIDTH - LEFT - RIGHT) / max(1, len(minutes))
    drawing.name(worded("Minutes a week"), 80.0)
    for k, (monday, value) in enumerate(minutes):
        height, x = 64.0 * value / most, LEFT + step * k
        drawing.add("rect", x=x + 0.15 * step, y=84.0 - height, width=0.7 * step, height=height, class_="minutes")
        if value >= 0.5:
            drawing.add("text", f"{value:.0f}", x=x + 0.5 * step, y=80.0 - height, class_="figure", text_anchor="middle")
        if len(minutes) <= 12 or k % 2 == 0:
            drawing.add("text", f"{monday.day} {monday:%b}", x=x + 0.5 * step, y=102.0, class_="date", text_anchor="middle")
    drawing.add("path", d=f"M{LEFT:g},84 H{WIDTH - RIGHT:g}", class_="ground")
    return str(drawing)
