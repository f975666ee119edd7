"""The engraving with marks and lanes put together."""

from __future__ import annotations

from typing import Any

from lxml import etree

from didactor.core.formats.lanes.drawn import lanes_of
from didactor.core.formats.lanes.marks import draw_marks
from didactor.core.formats.lanes.parts import Lane, Places, View, is_narrow
from didactor.core.formats.result import Result
from didactor.core.score.write.engraving import SVG

LANE_GAP = 150.0


def plain_score(svg: str, geometry: dict[str, Any], bar_numbers: dict[str, str]) -> str:
    """The engraving with a place to touch over every bar (``rect.bar`` with ``data-bar``)."""
    root = parse(svg)
    add_bars(root, geometry, bar_numbers)
    return etree.tostring(root, encoding="unicode")


def score_with_lanes(svg: str, geometry: dict[str, Any], result: Result, view: View) -> str:
    """The engraving with bars to touch, marks and lanes.

    Args:
        svg, geometry: from ``engraving.engrave``.
        result: what was heard; with nothing judged the engraving comes back without marks.
        view: which lanes.
    """
    root = parse(svg)
    add_bars(root, geometry, view.bar_numbers)
    if result.notes is None:
        return etree.tostring(root, encoding="unicode")
    kinds = lanes_of(view.lanes, result)
    room = sum(kind.height + LANE_GAP for kind in kinds) + (2 * LANE_GAP if kinds else 0)
    places = Places(geometry, result, view.bar_numbers)
    systems = systems_of(root)
    for index, (element, system) in enumerate(zip(systems, geometry["systems"], strict=True)):
        element.set("transform", f"translate(0, {index * room:g})")
        layer = etree.SubElement(element, f"{SVG}g", {"class": "heard"})
        draw_marks(layer, index, geometry, result, places)
        top = system["bottom"] + LANE_GAP
        for kind in kinds:
            lane = Lane(
                group=etree.SubElement(layer, f"{SVG}g", {"class": f"lane lane-{kind.name}"}),
                label=str(kind.short if is_narrow(geometry) else kind.label),
                height=kind.height,
                index=index,
                top=top,
                system=system,
                geometry=geometry,
                result=result,
                view=view,
                places=places,
                staff=kind.staff,
            )
            lane.write_name()
            kind.draw(lane)
            top += kind.height + LANE_GAP
    grow(root, room * len(systems), _label_width(geometry) if kinds else 0.0)
    return etree.tostring(root, encoding="unicode")


def parse(svg: str) -> etree._Element:
    """An engraving as a tree."""
    return etree.fromstring(svg.encode(), etree.XMLParser(huge_tree=True, resolve_entities=False))


def systems_of(root: etree._Element) -> list[etree._Element]:
    """The groups of an engraving that hold one system each, from the top."""
    return [g for g in root.iter(f"{SVG}g") if (g.get("data-class") or "") == "system"]


def _label_width(geometry: dict[str, Any]) -> float:
    return 760.0 if is_narrow(geometry) else 1330.0


def grow(root: etree._Element, by: float, left: float) -> None:
    """Make room below for the lanes and on the left for their names."""
    inner = root.find(f"{SVG}svg")
    if inner is None:
        return
    for element, scale in ((inner, 1.0), (root, 0.1)):
        x, y, width, height = (float(v) for v in element.get("viewBox", "0 0 0 0").split())
        element.set("viewBox", f"{x - (left if element is inner else 0):g} {y:g} {width + left * scale:g} {height + by * scale:g}")


def add_bars(root: etree._Element, geometry: dict[str, Any], numbers: dict[str, str]) -> None:
    """A place to touch over every bar, below the notes."""
    systems = systems_of(root)
    # Before the music, in the order of the bars: the notes lie on top and can be touched themselves.
    for bar_id, bar in reversed(list(geometry["bars"].items())):
        system = geometry["systems"][int(bar["system"])]
        rect = etree.Element(
            f"{SVG}rect",
            {
                "class": "bar",
                "data-bar": numbers.get(bar_id, ""),
                "x": f"{bar['x0']:g}",
                "y": f"{system['staff_top'] - 360:g}",
                "width": f"{bar['x1'] - bar['x0']:g}",
                "height": f"{system['staff_bottom'] - system['staff_top'] + 720:g}",
            },
        )
        systems[int(bar["system"])].insert(0, rect)


def cropped(svg: str, x0: float, x1: float) -> str:
    """An engraving of one system cut to what lies between two places, in the drawing's units."""
    root = parse(svg)
    inner = root.find(f"{SVG}svg")
    if inner is not None:
        for element, begin, width in ((inner, x0, x1 - x0), (root, None, 0.1 * (x1 - x0))):
            x, y, _, height = (float(v) for v in element.get("viewBox", "0 0 0 0").split())
            element.set("viewBox", f"{x if begin is None else begin:g} {y:g} {width:g} {height:g}")
    return etree.tostring(root, encoding="unicode")
