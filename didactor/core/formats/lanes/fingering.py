"""Fingerings drawn: valves and recorder holes as columns under the notes, chord shapes and a strip of keyboard as pictures apart."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from lxml import etree

from didactor.core.formats.lanes.parts import element
from didactor.core.score.study.fingering import ChordShape, Fingering
from didactor.core.score.write.engraving import SVG
from didactor.core.words import worded

#: Height that the fingerings of one kind take under a system, in the drawing's units.
HEIGHT = {"valves": 560.0, "recorder": 1400.0, "keys": 1580.0, "slide": 460.0, "strings": 460.0, "frets": 460.0}
_RADIUS, _STEP = 70.0, 175.0
_HOLE_RADIUS, _HOLE_STEP, _HANDS_GAP, _THUMB_AWAY = 64.0, 154.0, 70.0, 160.0
_KEY_LINE = 130.0
#: Pictures apart are drawn in pixels: between strings and frets, and of a white key.
_STRING_PX, _FRET_PX, _FRETS = 14.0, 16.0, 4
_WHITE_PX, _KEY_PX, _BLACK_PX = 16.0, 64.0, 40.0
NAMESPACE: dict[str, str] = {None: SVG.strip("{}")}  # type: ignore[dict-item]
_NATURALS = (0, 2, 4, 5, 7, 9, 11)


def draw_fingering(layer: etree._Element, fingering: Fingering, x: float, top: float, words: str) -> None:
    """One note's fingering under it; ``words`` is what is written where it has no picture."""
    if fingering.kind == "valves":
        group = element(layer, "g", "fingering", worded("Valves: {words}", words=fingering.words))
        for number, covered in enumerate(fingering.covered):
            element(group, "circle", f"hole{' covered' if covered else ''}", cx=x, cy=top + 90.0 + number * _STEP, r=_RADIUS)
    elif fingering.kind == "recorder":
        group = element(layer, "g", "fingering", fingering.words)
        for number, covered in enumerate(fingering.covered):
            # The thumb lies behind: it stands beside the first hole.
            at_x = x - _THUMB_AWAY if number == 0 else x
            y = top + 80.0 + max(0, number - 1) * _HOLE_STEP + (_HANDS_GAP if number > 3 else 0.0)
            element(group, "circle", f"hole{' covered' if covered == 2 else ''}", cx=at_x, cy=y, r=_HOLE_RADIUS)
            if covered == 1:
                r = _HOLE_RADIUS
                element(group, "path", "half", d=f"M{at_x:g} {y - r:g} A{r:g} {r:g} 0 0 0 {at_x:g} {y + r:g} Z")
    elif fingering.kind == "keys":
        _draw_keys(element(layer, "g", "fingering", fingering.words), fingering, x, top)
    elif words:
        element(layer, "text", "aid finger", x=x, y=top + 0.7 * HEIGHT[fingering.kind]).text = words


def _draw_keys(group: etree._Element, fingering: Fingering, x: float, top: float) -> None:
    """Register key and thumb stand to the left of the fingers, further keys are named below them."""
    register, thumb, *fingers = fingering.covered
    y = top + 140.0
    if register > 0:
        element(group, "rect", "hole covered", x=x - _THUMB_AWAY - 60.0, y=top, width=120.0, height=60.0)
    if thumb >= 0:
        element(group, "circle", f"hole{' covered' if thumb else ''}", cx=x - _THUMB_AWAY, cy=y, r=_HOLE_RADIUS)
    for number, covered in enumerate(fingers):
        at_y = y + number * _HOLE_STEP + (_HANDS_GAP if number > 2 else 0.0)
        element(group, "circle", f"hole{' covered' if covered else ''}", cx=x, cy=at_y, r=_HOLE_RADIUS)
    below = y + 5 * _HOLE_STEP + _HANDS_GAP + 250.0
    for number, key in enumerate(fingering.keys):
        element(group, "text", "aid key", x=x, y=below + number * _KEY_LINE).text = key


def chord_picture(shape: ChordShape) -> str:
    """A chord shape as an SVG of its own: strings upright, the lowest at the left, dots where fingers press."""
    count = len(shape.strings)
    width, height = (count - 1) * _STRING_PX + 28.0, _FRETS * _FRET_PX + 46.0
    root = etree.Element(
        f"{SVG}svg", nsmap=NAMESPACE, attrib={"class": "chord-picture", "viewBox": f"0 0 {width:g} {height:g}", "role": "img"}
    )
    etree.SubElement(root, f"{SVG}title").text = f"{shape.name}: {_in_words(shape)}"
    left, top = 14.0, 30.0
    element(root, "text", "name", x=width / 2, y=12.0).text = shape.name
    for fret in range(_FRETS + 1):
        y = top + fret * _FRET_PX
        element(root, "line", "nut" if fret == 0 else "fret", x1=left, y1=y, x2=left + (count - 1) * _STRING_PX, y2=y)
    for number, pressed in enumerate(shape.frets):
        x = left + number * _STRING_PX
        element(root, "line", "string", x1=x, y1=top, x2=x, y2=top + _FRETS * _FRET_PX)
        if pressed is None:
            element(root, "path", "silent", d=f"M{x - 3:g} {top - 10:g} l6 6 m0 -6 l-6 6")
        elif pressed == 0:
            element(root, "circle", "open", cx=x, cy=top - 7.0, r=3.2)
        else:
            element(root, "circle", "press", cx=x, cy=top + (pressed - 0.5) * _FRET_PX, r=5.0)
        element(root, "text", "string-name", x=x, y=height - 3.0).text = shape.strings[number]
    return etree.tostring(root, encoding="unicode")


def _in_words(shape: ChordShape) -> str:
    how = ("silent" if f is None else "open" if f == 0 else worded("fret {f}", f=f) for f in shape.frets)
    return ", ".join(f"{s} {h}" for s, h in zip(shape.strings, how, strict=True))


def keyboard_picture(played: Collection[int], names: Mapping[int, str]) -> str:
    """A strip of keyboard with the keys of a passage marked and named.

    Args:
        played: MIDI numbers.
        names: what to write on them.
    """
    first = min(played) // 12 * 12
    last = -(-(max(played) + 1) // 12) * 12
    white = [m for m in range(first, last) if m % 12 in _NATURALS]
    width = len(white) * _WHITE_PX + 2.0
    root = etree.Element(
        f"{SVG}svg", nsmap=NAMESPACE, attrib={"class": "keyboard-picture", "viewBox": f"0 0 {width:g} {_KEY_PX + 2:g}", "role": "img"}
    )
    etree.SubElement(root, f"{SVG}title").text = worded("Keys of this passage: ") + ", ".join(names.get(m, "") for m in sorted(played))
    place = {m: 1.0 + i * _WHITE_PX for i, m in enumerate(white)}
    for midi, x in place.items():
        element(root, "rect", f"white{' played' if midi in played else ''}", x=x, y=1.0, width=_WHITE_PX, height=_KEY_PX)
    for midi in range(first, last):
        if midi % 12 not in _NATURALS:
            x = place[midi - 1] + _WHITE_PX - 5.0
            element(root, "rect", f"black{' played' if midi in played else ''}", x=x, y=1.0, width=10.0, height=_BLACK_PX)
    for midi in sorted(played):
        natural = midi in place
        x = place[midi] + _WHITE_PX / 2 if natural else place[midi - 1] + _WHITE_PX
        element(root, "text", "key" if natural else "key on-black", x=x, y=(_KEY_PX if natural else _BLACK_PX) - 5.0).text = names.get(
            midi, ""
        )
    return etree.tostring(root, encoding="unicode")
