"""The engraving as a teacher reads it before setting work: under every bar how hard it is and which bar it is like; traps ringed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from lxml import etree

from didactor.core.formats.lanes.parts import element, is_narrow
from didactor.core.formats.lanes.score import LANE_GAP, add_bars, grow, parse, systems_of
from didactor.core.score.write.engraving import SVG

#: Height of the heat line's room, and of its thickest stroke, in the drawing's units.
ROOM, THICKEST, THINNEST = 560.0, 130.0, 12.0


@dataclass(frozen=True, slots=True, kw_only=True)
class StudyView:
    """By bar id: ``heat`` 0..1 against the hardest, ``says`` what stands behind it, ``like`` a few words under the bar; ``traps`` are
    note ids with their words.
    """

    bar_numbers: dict[str, str]
    heat: Mapping[str, float] = field(default_factory=dict)
    says: Mapping[str, str] = field(default_factory=dict)
    like: Mapping[str, str] = field(default_factory=dict)
    traps: Mapping[str, str] = field(default_factory=dict)


def study_score(svg: str, geometry: dict[str, Any], view: StudyView) -> str:
    """Engraving with places to touch, heat line, likenesses and traps."""
    root = parse(svg)
    add_bars(root, geometry, view.bar_numbers)
    room = ROOM + LANE_GAP
    for index, (group, system) in enumerate(zip(systems_of(root), geometry["systems"], strict=True)):
        group.set("transform", f"translate(0, {index * room:g})")
        layer = etree.SubElement(group, f"{SVG}g", {"class": "study"})
        top = system["bottom"] + LANE_GAP
        for bar_id, bar in geometry["bars"].items():
            if int(bar["system"]) == index:
                _draw_bar(layer, bar_id, bar, top, view, narrow=is_narrow(geometry))
        for note_id, words in view.traps.items():
            note = geometry["notes"].get(note_id)
            if note and int(note["system"]) == index:
                element(layer, "circle", "trap", words, cx=float(note["x"]), cy=float(note["y"]), r=230.0)
    grow(root, room * len(geometry["systems"]), 0.0)
    return etree.tostring(root, encoding="unicode")


def _draw_bar(layer: etree._Element, bar_id: str, bar: dict[str, Any], top: float, view: StudyView, *, narrow: bool) -> None:
    heat = view.heat.get(bar_id)
    x0, x1 = bar["x0"] + 60.0, bar["x1"] - 60.0
    if heat is not None:
        height = THINNEST + heat**2 * (THICKEST - THINNEST)  # squared: the hard bars are to stand out
        hottest = " hottest" if heat >= 0.999 else ""
        element(layer, "rect", f"heat{hottest}", view.says.get(bar_id, ""), x=x0, y=top + THICKEST - height, width=x1 - x0, height=height)
    words = view.like.get(bar_id)
    if words:
        label = element(layer, "text", "like", x=x0, y=top + THICKEST + (330.0 if not narrow else 300.0))
        label.text = words
