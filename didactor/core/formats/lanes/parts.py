"""What lanes and marks are drawn with: SVG elements, places on the page, and a lane under one system."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any

from lxml import etree

from didactor.core.formats.result import NoteResult, Result
from didactor.core.score.write.engraving import HALF_HEAD, SVG


def is_narrow(geometry: dict[str, Any]) -> bool:
    """Whether this is the layout for phones."""
    return bool(geometry["width"] < 10_000)


@dataclass(frozen=True, slots=True, kw_only=True)
class View:
    """What to draw, of what was heard: lanes, and the printed numbers of the bars by their ids."""

    lanes: tuple[str, ...]
    bar_numbers: dict[str, str]


def element(parent: etree._Element, tag: str, classes: str, /, title: str = "", **attributes: Any) -> etree._Element:
    plain = {key.replace("_", "-"): f"{value:g}" if isinstance(value, float) else str(value) for key, value in attributes.items()}
    element = etree.SubElement(parent, f"{SVG}{tag}", {"class": classes, **plain})
    if title:
        etree.SubElement(element, f"{SVG}title").text = title
    return element


class Places:
    """Where a beat of a bar stands on the page: between the notes written there."""

    def __init__(self, geometry: dict[str, Any], result: Result, numbers: dict[str, str]) -> None:
        self._bars: dict[str, list[tuple[float, float, int]]] = {}
        notes = geometry["notes"]
        for note in result.notes or ():
            place = notes.get(note.id)
            if place:
                self._bars.setdefault(note.bar, []).append((note.beat, place["x"], int(place["system"])))
        self._ends = {numbers.get(i, ""): (b["first_x"], b["x1"], int(b["system"])) for i, b in geometry["bars"].items()}

    def x(self, bar: str, beat: float, length_guess: float = 4.0) -> tuple[float, int] | None:
        """Horizontal place and system of a beat, or None for a bar that is not drawn."""
        known = sorted(set(self._bars.get(bar, [])))
        end = self._ends.get(bar)
        if end is None:
            return None
        points = [(b, x) for b, x, _ in known]
        if not points or points[0][0] > 0:
            points.insert(0, (0.0, end[0] + HALF_HEAD))
        if points[-1][0] < length_guess:
            points.append((length_guess, end[1]))
        for (b0, x0), (b1, x1) in itertools.pairwise(points):
            if b0 <= beat <= b1 and b1 > b0:
                return x0 + (x1 - x0) * (beat - b0) / (b1 - b0), end[2]
        return points[-1][1], end[2]


@dataclass(frozen=True, slots=True, kw_only=True)
class Lane:
    """One lane under one system: where it is drawn and what it shows. ``staff``: of one hand only."""

    group: etree._Element
    label: str
    height: float
    index: int
    top: float
    system: dict[str, float]
    geometry: dict[str, Any]
    result: Result
    view: View
    places: Places
    staff: int | None = None

    @property
    def middle(self) -> float:
        return self.top + self.height / 2

    def write_name(self) -> None:
        """The lane spans the system; its name stands in the margin."""
        label = element(self.group, "text", "lane-label", x=self.system["left"] - 80.0, y=self.middle + 80.0, text_anchor="end")
        label.text = self.label

    def zone(self, top: float, bottom: float) -> None:
        left = self.system["left"]
        element(self.group, "rect", "zone", x=left, y=top, width=self.system["right"] - left, height=bottom - top)

    def rule(self, classes: str, y: float) -> None:
        element(self.group, "line", classes, x1=self.system["left"], y1=y, x2=self.system["right"], y2=y)

    def notes(self) -> list[tuple[NoteResult, float]]:
        """The notes of this system with their places."""
        known = self.geometry["notes"]
        own = [n for n in self.result.notes or () if n.id in known and int(known[n.id]["system"]) == self.index]
        own = [n for n in own if self.staff is None or n.staff == self.staff]
        return [(note, float(known[note.id]["x"])) for note in own]

    def dot(self, note: NoteResult, x: float, y: float, category: str, words: str, reach_from: tuple[float, float]) -> None:
        """A note's dot; flagged ones are larger and tied to where they should be."""
        flagged = note.id in self.result.flagged.get(category, set())
        if flagged:
            element(self.group, "line", "reach flagged", x1=reach_from[0], y1=reach_from[1], x2=x, y2=y)
        classes = f"dot{' flagged' if flagged else ''}{' again' if note.pass_ > 1 else ''}"
        radius = 66.0 if flagged else 42.0
        element(self.group, "circle", classes, title=words, cx=x, cy=y, r=radius, data_note=note.id, data_pass=note.pass_)
