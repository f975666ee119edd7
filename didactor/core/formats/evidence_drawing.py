"""The evidence behind one note's judgement, drawn: its sound, where it was due and where it was heard, written and heard pitch."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
from lxml import etree

from didactor.core.formats.evidence import Place
from didactor.core.hearing.close_up import FLOOR_DB, ROWS_PER_SEMITONE, CloseUp
from didactor.core.words import worded

SVG = "http://www.w3.org/2000/svg"
WIDTH, HEIGHT, LEFT, TOP, BOTTOM = 360.0, 300.0, 24.0, 22.0, 38.0
#: Shades of ink, from faint to full.
SHADES = 5
#: Names stand so far apart, at least; half of what a time takes.
LINE, HALF_A_TIME = 11.0, 15.0
NATURALS = {0: "C", 2: "D", 4: "E", 5: "F", 7: "G", 9: "A", 11: "B"}
_ALTERED = {1: "C♯", 3: "E♭", 6: "F♯", 8: "A♭", 10: "B♭"}


def draw_evidence(view: CloseUp, place: Place) -> str:
    """SVG without styles: ink shades are ``shade-1`` to ``shade-5``, other classes as below."""
    root = etree.fromstring(f'<svg xmlns="{SVG}" viewBox="0 0 {WIDTH:g} {HEIGHT:g}"/>')
    root.set("class", "evidence")
    bottom = HEIGHT - BOTTOM

    def x(time_s: float) -> float:
        return LEFT + (time_s - view.start_s) / (view.end_s - view.start_s) * (WIDTH - LEFT)

    def y(midi: float) -> float:
        return bottom - (midi - view.low_midi) / (view.high_midi - view.low_midi) * (bottom - TOP)

    def add(tag: str, classes: str, text: str = "", **attributes: Any) -> None:
        plain = {k.replace("_", "-"): f"{v:.1f}" if isinstance(v, float) else str(v) for k, v in attributes.items()}
        element = etree.SubElement(root, f"{{{SVG}}}{tag}", {"class": classes, **plain})
        element.text = text or None

    add("rect", "ground", x=LEFT, y=TOP, width=WIDTH - LEFT, height=bottom - TOP)
    for midi, named in _labels(view, place, HEIGHT - TOP - BOTTOM):
        shown = midi - place.transposition
        name = NATURALS.get(shown % 12) or _ALTERED[shown % 12]
        add("text", "name named" if named else "name", name, x=LEFT - 8, y=y(midi) + 4, text_anchor="end")
    _ink(root, view, x, y)
    begin = place.due_s if place.due_s is not None else place.onset_s
    if begin is not None and place.pitched:
        top, width = y(place.written_midi + 0.5), max(2.0, x(begin + place.duration_s) - x(begin))
        add("rect", "written", x=x(begin), y=top, width=width, height=y(place.written_midi - 0.5) - top)
    if place.due_s is not None:
        add("line", "due", x1=x(place.due_s), x2=x(place.due_s), y1=TOP - 4, y2=bottom)
        add("text", "label", worded("due"), x=x(place.due_s), y=TOP - 9, text_anchor="middle")
    if place.onset_s is not None:
        if place.pitched and place.heard_midi is not None:
            end = place.offset_s if place.offset_s is not None else place.onset_s + 0.1
            middle = y(place.heard_midi)
            add("line", "heard", x1=x(place.onset_s), x2=max(x(place.onset_s) + 2, x(end)), y1=middle, y2=middle)
        add("line", "onset", x1=x(place.onset_s), x2=x(place.onset_s), y1=TOP, y2=bottom + 4)
        add("text", "label heard-label", worded("heard"), x=x(place.onset_s), y=bottom + 16, text_anchor="middle")
    for tick in np.arange(np.ceil(view.start_s * 2) / 2, view.end_s, 0.5):
        # The last one is written before its place where it would stand over the edge.
        over = x(float(tick)) > WIDTH - HALF_A_TIME
        add("text", "time", f"{tick:.1f} s", x=WIDTH - 1 if over else x(float(tick)), y=HEIGHT - 4, text_anchor="end" if over else "middle")
    return etree.tostring(root, encoding="unicode")


def _labels(view: CloseUp, place: Place, height: float) -> list[tuple[int, bool]]:
    """Keys with a name at the left, and whether they are what this is about: those first, others where there is room beside them."""
    keys = range(int(np.ceil(view.low_midi)), int(view.high_midi) + 1)
    away = LINE * (view.high_midi - view.low_midi) / height
    about = [m for m in keys if place.pitched and m in (place.written_midi, place.heard_midi)]
    chosen = list(about)
    for midi in keys:
        if midi % 12 in (NATURALS if place.pitched else (0, 7)) and all(abs(midi - other) >= away for other in chosen):
            chosen.append(midi)
    return [(midi, midi in about) for midi in sorted(chosen)]


def _ink(root: etree._Element, view: CloseUp, x: Any, y: Any) -> None:
    """The sound itself: one path for each shade, runs of equal shade as one rectangle."""
    rows, columns = view.levels_db.shape
    shades = np.clip(np.ceil((view.levels_db / -FLOOR_DB + 1) * SHADES - 0.5), 0, SHADES).astype(int)
    width = (x(view.end_s) - x(view.start_s)) / columns
    height = y(view.low_midi) - y(view.low_midi + 1 / ROWS_PER_SEMITONE)
    paths: dict[int, list[str]] = {}
    for row in range(rows):
        top = y(view.low_midi + (row + 1) / ROWS_PER_SEMITONE)
        edges = [0, *(np.flatnonzero(np.diff(shades[row])) + 1).tolist(), columns]
        for first, last in itertools.pairwise(edges):
            shade = int(shades[row, first])
            if shade:
                left = x(view.start_s) + first * width
                paths.setdefault(shade, []).append(f"M{left:.1f} {top:.1f}h{(last - first) * width:.1f}v{height:.1f}H{left:.1f}z")
    for shade, pieces in sorted(paths.items()):
        etree.SubElement(root, f"{{{SVG}}}path", {"class": f"shade-{shade}", "d": "".join(pieces)})
