"""The engraving with reading aids: names and counting under the notes, rings round the notes that the key signature touches."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any

from lxml import etree

from didactor.core.formats.lanes.fingering import HEIGHT, draw_fingering
from didactor.core.formats.lanes.parts import element
from didactor.core.formats.lanes.score import LANE_GAP, add_bars, grow, parse, systems_of
from didactor.core.score.study.fingering import Fingering
from didactor.core.score.write.engraving import SVG

#: Height of one row of words under a system.
ROW = 460.0


def aided_score(
    svg: str,
    geometry: dict[str, Any],
    bar_numbers: dict[str, str],
    rows: Mapping[str, Mapping[str, str]],
    rings: Mapping[str, Collection[str]],
    fingerings: Mapping[str, Fingering] | None = None,
) -> str:
    """Engraving with places to touch and aids.

    Args:
        rows: rows of words under every system, each by its CSS class: note id to word.
        rings: note ids to ring, by CSS class.
        fingerings: note id to what is drawn below the rows of words, all of one kind.
    """
    root = parse(svg)
    add_bars(root, geometry, bar_numbers)
    fingerings = fingerings or {}
    fingered = HEIGHT[next(iter(fingerings.values())).kind] if fingerings else 0.0
    room = len(rows) * ROW + fingered + (LANE_GAP if rows or fingerings else 0.0)
    for index, (group, system) in enumerate(zip(systems_of(root), geometry["systems"], strict=True)):
        group.set("transform", f"translate(0, {index * room:g})")
        layer = etree.SubElement(group, f"{SVG}g", {"class": "aids"})
        for css, ids in rings.items():
            for note_id in ids:
                note = geometry["notes"].get(note_id)
                if note and int(note["system"]) == index:
                    element(layer, "circle", f"ring {css}", cx=float(note["x"]), cy=float(note["y"]), r=210.0)
        for number, (css, words) in enumerate(rows.items()):
            taken: set[int] = set()
            for note_id, word in words.items():
                note = geometry["notes"].get(note_id)
                if note and int(note["system"]) == index and word and round(note["x"] / 50) not in taken:
                    taken.add(round(note["x"] / 50))  # of a chord the first is named
                    label = element(layer, "text", f"aid {css}", x=float(note["x"]), y=system["bottom"] + LANE_GAP + (number + 0.7) * ROW)
                    label.text = word
        _draw_fingerings(layer, index, geometry, fingerings, system["bottom"] + LANE_GAP + len(rows) * ROW)
    grow(root, room * len(geometry["systems"]), 0.0)
    return etree.tostring(root, encoding="unicode")


def _draw_fingerings(layer: etree._Element, index: int, geometry: dict[str, Any], fingerings: Mapping[str, Fingering], top: float) -> None:
    """A string is named where it changes, and at the beginning of every system."""
    string, taken = "", set()
    for note_id, fingering in fingerings.items():
        note = geometry["notes"].get(note_id)
        if not note or int(note["system"]) != index or round(note["x"] / 50) in taken:
            continue
        taken.add(round(note["x"] / 50))
        words = fingering.words
        if fingering.kind in ("strings", "frets"):
            name, _, finger = words.partition(" ")
            words, string = (finger if name == string else name + finger), name
        draw_fingering(layer, fingering, float(note["x"]), top, words)
