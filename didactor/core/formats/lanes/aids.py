"""The engraving with reading aids: names and counting under the notes, rings round the notes that the key signature touches."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from lxml import etree

from didactor.core.formats.lanes.fingering import HEIGHT, draw_fingering
from didactor.core.formats.lanes.parts import element
from didactor.core.formats.lanes.score import LANE_GAP, add_bars, grow, parse, systems_of
from didactor.core.score.study.counting import Counted
from didactor.core.score.study.fingering import Fingering
from didactor.core.score.write.engraving import SVG

#: Height of one row of words under a system.
ROW = 460.0
#: Width of a letter, of one in a word that is said where nothing begins, and the least room between two words.
LETTER, SMALL_LETTER, APART = 150.0, 96.0, 40.0


def aided_score(
    svg: str,
    geometry: dict[str, Any],
    bar_numbers: dict[str, str],
    rows: Mapping[str, Mapping[str, str]],
    rings: Mapping[str, Collection[str]],
    fingerings: Mapping[str, Fingering] | None = None,
    counts: Sequence[Counted] = (),
    bar_quarters: Mapping[str, float] | None = None,
    tones: Mapping[str, str] | None = None,
) -> str:
    """Engraving with places to touch and aids.

    Args:
        rows: rows of words under every system, each by its CSS class: note id to word.
        rings: note ids to ring, by CSS class.
        fingerings: note id to what is drawn below the rows of words, all of one kind.
        tones: note id to a CSS class that its head gets, as a colour for those who do not read notes yet.
        counts: what is counted, the first row, also where no note begins; ``bar_quarters``: bar id to its length, which places them.
    """
    root = parse(svg)
    add_bars(root, geometry, bar_numbers)
    for note in root.iter(f"{SVG}g") if tones else ():
        tone = (tones or {}).get(note.get("data-id", ""))
        if tone:
            note.set("class", f"{note.get('class', '')} {tone}".strip())
    fingerings = fingerings or {}
    fingered = HEIGHT[next(iter(fingerings.values())).kind] if fingerings else 0.0
    counted = ROW if counts else 0.0
    room = counted + len(rows) * ROW + fingered + (LANE_GAP if rows or fingerings or counts else 0.0)
    for index, (group, system) in enumerate(zip(systems_of(root), geometry["systems"], strict=True)):
        group.set("transform", f"translate(0, {index * room:g})")
        layer = etree.SubElement(group, f"{SVG}g", {"class": "aids"})
        for css, ids in rings.items():
            for note_id in ids:
                note = geometry["notes"].get(note_id)
                if note and int(note["system"]) == index:
                    element(layer, "circle", f"ring {css}", cx=float(note["x"]), cy=float(note["y"]), r=210.0)
        top = system["bottom"] + LANE_GAP
        for x, word, held in _placed(geometry, index, counts, bar_quarters or {}):
            element(
                layer, "text", f"aid counting{' held' if held else ''}{'' if word.isdigit() else ' between'}", x=x, y=top + 0.7 * ROW
            ).text = word
        for number, (css, words) in enumerate(rows.items()):
            taken: set[int] = set()
            for note_id, word in words.items():
                note = geometry["notes"].get(note_id)
                if note and int(note["system"]) == index and word and round(note["x"] / 50) not in taken:
                    taken.add(round(note["x"] / 50))  # of a chord the first is named
                    label = element(layer, "text", f"aid {css}", x=float(note["x"]), y=top + counted + (number + 0.7) * ROW)
                    label.text = word
        _draw_fingerings(layer, index, geometry, fingerings, top + counted + len(rows) * ROW)
    grow(root, room * len(geometry["systems"]), 0.0)
    return etree.tostring(root, encoding="unicode")


def _placed(
    geometry: dict[str, Any], index: int, counts: Sequence[Counted], bar_quarters: Mapping[str, float]
) -> Iterator[tuple[float, str, bool]]:
    """Where each count of a system stands, its word, and whether no note begins there: those stand between the notes around them.

    A word between beats for which there is no room is left out; a number never is.
    """
    by_bar: dict[str, list[Counted]] = {}
    for count in counts:
        by_bar.setdefault(count.bar_id, []).append(count)
    for bar_id, said in by_bar.items():
        bar = geometry["bars"].get(bar_id)
        if not bar or int(bar["system"]) != index:
            continue
        places = _in_bar(geometry, bar, said, bar_quarters.get(bar_id, 4.0))
        # What stands on a note first, then the numbers, then what fits between.
        order = sorted(range(len(said)), key=lambda k: (said[k].note_id is None, not said[k].word.isdigit(), k))
        taken: list[tuple[float, float]] = []
        for k in order:
            held = said[k].note_id is None
            half = 0.5 * len(said[k].word) * (SMALL_LETTER if held and not said[k].word.isdigit() else LETTER)
            room = all(abs(places[k] - x) >= half + other + APART for x, other in taken)
            if not room and held and not said[k].word.isdigit():
                continue
            taken.append((places[k], half))
            yield places[k], said[k].word, held


def _in_bar(geometry: dict[str, Any], bar: Mapping[str, float], said: Sequence[Counted], length: float) -> list[float]:
    """The x of every count of a bar: its note's, else between the notes and the ends of the bar."""
    notes = {c.quarters: float(geometry["notes"][c.note_id]["x"]) for c in said if c.note_id in geometry["notes"]}
    width = float(bar["x1"]) - float(bar["x0"])
    known = {0.0: float(bar["first_x"]) if notes else float(bar["x0"]) + 0.15 * width, length: float(bar["x1"]), **notes}
    quarters = sorted(known)
    return [float(np.interp(c.quarters, quarters, [known[q] for q in quarters])) for c in said]


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
