"""Engraving: prepared MusicXML to SVG in which every bar and notehead carries our id in ``data-id``, with its geometry.

Verovio engraves. Its own style sheet is taken out (the pages allow no inline style), so ``score.css`` styles the
classes it leaves. Lengths are in the units of the inner drawing (``UNITS_PER_PIXEL`` of them to a pixel at scale 1).
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from typing import Any

import verovio
from lxml import etree

from didactor.core.errors import PassageError, ScoreError
from didactor.core.score.model import Bar, Part
from didactor.core.words import _, worded

SVG = "{http://www.w3.org/2000/svg}"
UNITS_PER_PIXEL = 10
#: Half the width of a black notehead at the engraver's normal size.
HALF_HEAD = 117.0

#: Widths to engrave for, in pixels before scaling: the whole page, beside a column of words, and a phone held upright.
LAYOUTS = {"desk": 1960, "beside": 1420, "phone": 880, "stand": 1240, "handheld": 600}
#: What a page shows: the score across it, or beside words; and always the narrow one, for phones.
ACROSS = ("desk", "phone")
BESIDE = ("beside", "phone")
#: Where one plays from it, an arm's length away: fewer bars in a line, and a larger staff.
PLAYED_FROM = ("stand", "handheld")

NOT_ENGRAVED = _("The score was read but cannot be engraved. Export it again from the notation program.")

_OPTIONS: dict[str, Any] = {
    "pageHeight": 60000,
    "pageMarginLeft": 20,
    "pageMarginRight": 20,
    "pageMarginTop": 40,
    "pageMarginBottom": 40,
    "adjustPageHeight": True,
    "header": "none",
    "footer": "none",
    "svgViewBox": True,
    "svgHtml5": True,
    "svgRemoveXlink": True,
    "smuflTextFont": "none",
    "breaks": "auto",
    "mnumInterval": 0,
    # Our letters are wider than those the engraver reckons with.
    "lyricWordSpace": 3.0,
    "spacingSystem": 6,
    "spacingStaff": 8,
    "xmlIdSeed": 7,
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Engraving:
    """One passage engraved for one layout. ``geometry`` has ``width, height, systems[], bars{}, notes{}`` (plain values)."""

    svg: str
    geometry: dict[str, Any]


@cache
def _toolkit() -> Any:
    toolkit = verovio.toolkit()
    verovio.enableLog(verovio.LOG_OFF)
    return toolkit


def engrave(prepared: bytes, part: Part, bars: list[Bar], layout: str = "desk") -> Engraving:
    """Engrave some bars of one part.

    Args:
        prepared: XML from ``musicxml.prepare``.
        part: the part to show; the others are left out.
        bars: contiguous bars of that part, in written order.
        layout: a key of ``LAYOUTS``.

    Raises:
        ScoreError: the engraver cannot load the score.
        PassageError: no bars.
    """
    if not bars:
        raise PassageError("passage.bars", worded("Choose at least one bar."))
    toolkit = _toolkit()
    toolkit.setOptions({**_OPTIONS, "pageWidth": LAYOUTS[layout]})
    if not toolkit.loadData(_only_part(prepared, part.index).decode()):
        raise ScoreError("score.not_engraved", NOT_ENGRAVED)
    # The engraver counts bars by position, not by the printed number.
    toolkit.select({"measureRange": f"{bars[0].index + 1}-{bars[-1].index + 1}"})
    toolkit.redoLayout()
    # A page of the engraver's is no longer than 60,000 pixels; what is longer comes on several, and is put together again.
    pages = [toolkit.renderToSVG(page + 1) for page in range(toolkit.getPageCount())]
    if not pages or not all(pages):
        raise ScoreError("score.not_engraved", NOT_ENGRAVED)
    return _joined([_clean(page, layout) for page in pages])


def _only_part(prepared: bytes, index: int) -> bytes:
    root = etree.fromstring(prepared, etree.XMLParser(resolve_entities=False, no_network=True))
    parts = root.findall("part")
    keep = parts[index - 1]
    for part in parts:
        if part is not keep:
            root.remove(part)
    for direction in list(keep.iter("direction")):
        # The assignment states the tempo, in its own beat unit; a second one on the staff would contradict it. Words beside it stay.
        for kind in direction.findall("direction-type"):
            if kind.find("metronome") is not None:
                direction.remove(kind)
        parent = direction.getparent()
        if direction.find("direction-type") is None and parent is not None:
            parent.remove(direction)
    for head in list(keep.iter("notehead")):
        note = head.getparent()
        if (head.text or "").strip() == "none" and note is not None:
            note.remove(head)  # what is expected is drawn
    for printed in keep.iter("print"):
        # Everybody speaks of bars by their numbers, whatever the file hides.
        for numbering in printed.findall("measure-numbering"):
            printed.remove(numbering)
    _strokes_on_one_line(keep)
    listing = root.find("part-list")
    if listing is not None:
        for entry in list(listing):
            if entry.tag != "score-part" or entry.get("id") != keep.get("id"):
                listing.remove(entry)
            else:
                # The page already says whose part this is; labels beside the staff would only cost width.
                for tag in ("part-name", "part-abbreviation", "part-name-display", "part-abbreviation-display"):
                    for name in entry.findall(tag):
                        name.text = ""
                        for child in list(name):
                            name.remove(child)
    return etree.tostring(root)


def _strokes_on_one_line(part: etree._Element) -> None:
    """Strokes that are all alike stand on a single line without a clef, as slashes where chords are to be strummed to them.

    Several kinds of stroke (a drum kit) keep their places on the staff.
    """
    strokes = part.findall("measure/note/unpitched")
    places = {(s.findtext("display-step"), s.findtext("display-octave")) for s in strokes}
    if len(places) != 1 or part.find("measure/note/pitch") is not None:
        return
    with_chords = part.find("measure/harmony") is not None
    for stroke in strokes:
        note = stroke.getparent()
        for name, text in (("display-step", "E"), ("display-octave", "4")):
            place = stroke.find(name)
            (etree.SubElement(stroke, name) if place is None else place).text = text
        if with_chords and note is not None and note.find("notehead") is None:
            head = etree.Element("notehead")
            head.text = "slash"
            _insert_head(note, head)
    for attributes in part.findall("measure/attributes"):
        for clef in attributes.findall("clef"):
            attributes.remove(clef)
    first = part.find("measure/attributes")
    if first is not None:
        clef = etree.fromstring('<clef print-object="no"><sign>percussion</sign></clef>')
        lines = etree.fromstring("<staff-details><staff-lines>1</staff-lines></staff-details>")
        for old in first.findall("staff-details"):
            first.remove(old)
        after = [e for tag in ("time", "key", "divisions") for e in first.findall(tag)]
        at = list(first).index(after[0]) + 1 if after else 0
        first[at:at] = [clef, lines]


#: What follows the head in a note.
_AFTER_THE_HEAD = ("notehead-text", "staff", "beam", "notations", "lyric", "play", "listen")


def _insert_head(note: etree._Element, head: etree._Element) -> None:
    following = next((i for i, element in enumerate(note) if element.tag in _AFTER_THE_HEAD), len(note))
    note.insert(following, head)


def _joined(pages: list[etree._Element]) -> Engraving:
    """Pages one below the other as a single drawing."""
    first = pages[0]
    inner, geometry = _inner(first), _measure(first)
    glyphs = {element.get("id") for element in first.iter() if "id" in element.attrib}
    for page in pages[1:]:
        below, more = geometry["height"], _measure(page)
        group = etree.SubElement(inner, f"{SVG}g", {"class": "page", "transform": f"translate(0, {below:g})"})
        group.extend(list(_inner(page)))
        for definitions in page.findall(f"{SVG}defs"):
            fresh = [d for d in definitions if d.get("id") not in glyphs]
            glyphs.update(d.get("id") for d in fresh)
            first.insert(0, definitions)
            definitions[:] = fresh
        _put_below(geometry, more, below)
    width, height = geometry["width"], geometry["height"]
    inner.set("viewBox", f"0 0 {width:g} {height:g}")
    if len(pages) > 1:
        first.set("viewBox", f"0 0 {width / UNITS_PER_PIXEL:g} {height / UNITS_PER_PIXEL:g}")
    return Engraving(svg=etree.tostring(first, encoding="unicode"), geometry=geometry)


def _put_below(geometry: dict[str, Any], more: dict[str, Any], below: float) -> None:
    systems = len(geometry["systems"])
    geometry["height"] += more["height"]
    for system in more["systems"]:
        moved = {edge: system[edge] + below for edge in ("top", "bottom", "staff_top", "staff_bottom")}
        geometry["systems"].append({**system, **moved})
    geometry["bars"] |= {name: {**bar, "system": bar["system"] + systems} for name, bar in more["bars"].items()}
    geometry["notes"] |= {
        name: {**note, "system": note["system"] + systems, "y": round(note["y"] + below)} for name, note in more["notes"].items()
    }


def _clean(raw: str, layout: str) -> etree._Element:
    root = etree.fromstring(raw.encode(), etree.XMLParser(huge_tree=True))
    for tag in ("style", "title", "desc"):
        for element in list(root.iter(f"{SVG}{tag}")):
            parent = element.getparent()
            if parent is not None:
                parent.remove(element)
    for element in list(root.iter(f"{SVG}g")):
        # Signs of the engraver's own for breaks and sections, which its style sheet would hide.
        parent = element.getparent()
        if "placeholder" in (element.get("class") or "").split() and parent is not None:
            parent.remove(element)
    # Two engravings may stand on one page (desk and phone): their glyph ids must differ.
    suffix = f"-{layout}"
    for element in root.iter():
        if "id" in element.attrib:
            element.set("id", re.sub(r"-[^-]*$", "", element.get("id", "")) + suffix)
        href = element.get("href")
        if href and href.startswith("#"):
            element.set("href", re.sub(r"-[^-]*$", "", href) + suffix)
    if "id" in root.attrib:
        del root.attrib["id"]
    for element in root.iter(f"{SVG}svg"):
        # Ink is the page's: the drawing must also stand on dark paper.
        if "color" in element.attrib:
            del element.attrib["color"]
    root.set("class", "score")
    return root


def _inner(root: etree._Element) -> etree._Element:
    inner = root.find(f"{SVG}svg")
    if inner is None:
        raise ScoreError("score.not_engraved", NOT_ENGRAVED)
    return inner


def _measure(root: etree._Element) -> dict[str, Any]:
    inner = _inner(root)
    _, _, width, height = (float(v) for v in inner.get("viewBox", "0 0 0 0").split())
    systems: list[dict[str, float]] = []
    bars: dict[str, dict[str, float]] = {}
    notes: dict[str, dict[str, float]] = {}
    for system in _by_class(root, "system"):
        index = len(systems)
        ys = _all_ys(system)
        lines: list[float] = []
        left, right = float("inf"), 0.0
        for measure in _by_class(system, "measure"):
            staves = list(_by_class(measure, "staff"))
            found = [_line(path.get("d", "")) for staff in staves for path in staff.findall(f"{SVG}path")]
            spans = [s for s in found if s is not None and s[1] == s[3]]
            if not spans:
                continue
            x0, x1 = min(s[0] for s in spans), max(s[2] for s in spans)
            lines += [s[1] for s in spans]
            left, right = min(left, x0), max(right, x1)
            content = [n[0] for note in _by_class(measure, "note") if (n := _head(note))]
            bars[measure.get("data-id", "")] = {"system": index, "x0": x0, "x1": x1, "first_x": min(content, default=x0)}
        for note in _by_class(system, "note"):
            head = _head(note)
            if head:
                notes[note.get("data-id", "")] = {"system": index, "x": round(head[0] + HALF_HEAD), "y": round(head[1])}
        systems.append(
            {
                "top": min(ys, default=0.0),
                "bottom": max(ys, default=0.0),
                "staff_top": min(lines, default=0.0),
                "staff_bottom": max(lines, default=0.0),
                "left": left if lines else 0.0,
                "right": right,
            }
        )
    return {"width": width, "height": height, "systems": systems, "bars": bars, "notes": notes}


def _by_class(element: etree._Element, name: str) -> Any:
    return (g for g in element.iter(f"{SVG}g") if name in (g.get("data-class") or "").split())


def _line(d: str) -> tuple[float, float, float, float] | None:
    match = re.fullmatch(r"M([\d.-]+) ([\d.-]+) L([\d.-]+) ([\d.-]+)", d.strip())
    return (float(match[1]), float(match[2]), float(match[3]), float(match[4])) if match else None


def _head(note: etree._Element) -> tuple[float, float] | None:
    """Where a note stands: its head's glyph; else a figure in a tablature, a long head that is drawn, or its stem."""
    for use in note.iter(f"{SVG}use"):
        match = re.match(r"translate\(([\d.-]+), ([\d.-]+)\)", use.get("transform", ""))
        if match:
            return float(match[1]), float(match[2])
    for text in note.iter(f"{SVG}text", f"{SVG}rect"):
        if text.get("x") and text.get("y"):
            return float(text.get("x", "0")), float(text.get("y", "0"))
    for path in note.iter(f"{SVG}path"):
        match = re.match(r"M([\d.-]+)[ ,]([\d.-]+)", path.get("d", ""))
        if match:
            return float(match[1]), float(match[2])
    return None


def _all_ys(system: etree._Element) -> list[float]:
    ys: list[float] = []
    for element in system.iter():
        transform = element.get("transform", "")
        match = re.match(r"translate\(([\d.-]+), ([\d.-]+)\)", transform)
        if match:
            ys += [float(match[2]) - 180, float(match[2]) + 180]
        if element.tag == f"{SVG}path" and element.get("d"):
            numbers = [float(n) for n in re.findall(r"-?\d+\.?\d*", element.get("d", ""))]
            ys += numbers[1::2]
        if element.get("points"):
            ys += [float(p.split(",")[1]) for p in element.get("points", "").split() if "," in p]
        if element.get("y"):
            ys.append(float(element.get("y", "0")))
    return ys
