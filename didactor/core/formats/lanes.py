"""The engraved passage with what was heard: marks on the notes, and thin lanes under every system.

In every lane time is horizontal, at the notes' own places, and what is measured is vertical or a displacement. What is right
stays plain; what matters is marked by shape first, by the accent second (classes only; the style sheet colours them):

- placement: a fine stem at the written place, a dot left of it when early, right when late;
- pitch: a dot above or below a line by cents; a wrong note is a ghost head on the staff, tied to the written one;
- tempo: the played curve within its band; a hesitation is a break with its seconds, a restart a thin arc back;
- missed: a circle round the written head; not judged: the circle dotted; extra: a small slanted head between its neighbours.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from typing import Any

from lxml import etree

from didactor.core.score.engraving import HALF_HEAD, SVG

LANE_GAP = 150.0
HEIGHTS = {"placement": 300.0, "pitch": 400.0, "tempo": 340.0}
SHORT_NAMES = {"placement": "place", "pitch": "pitch", "tempo": "tempo"}
STEP = 90.0
UNITS_PER_MS, FARTHEST = 1.7, 460.0
UNITS_PER_CENT, HIGHEST = 3.0, 170.0
#: The lane shows at least this much either side of the target, per cent.
TEMPO_REACH_PERCENT = 12.0
_SPELLING = (("C", 0), ("C", 1), ("D", 0), ("E", -1), ("E", 0), ("F", 0), ("F", 1), ("G", 0), ("A", -1), ("A", 0), ("B", -1), ("B", 0))
_STEPS = {"C": 0, "D": 1, "E": 2, "F": 3, "G": 4, "A": 5, "B": 6}
_SIGNS = {-1: "♭", 1: "♯"}


@dataclass(frozen=True, slots=True, kw_only=True)
class View:
    """What to draw. ``flagged`` are the notes that a finding names, by its category; only they carry the accent."""

    lanes: tuple[str, ...]
    bar_numbers: dict[str, str]
    flagged: dict[str, set[str]]


def plain_score(svg: str, geometry: dict[str, Any], bar_numbers: dict[str, str]) -> str:
    """The engraving with a place to touch over every bar (``rect.bar`` with ``data-bar``)."""
    root = _parse(svg)
    _add_bars(root, geometry, bar_numbers)
    return etree.tostring(root, encoding="unicode")


def score_with_lanes(svg: str, geometry: dict[str, Any], result: dict[str, Any], view: View) -> str:
    """The engraving with bars to touch, marks and lanes.

    Args:
        svg, geometry: from ``engraving.engrave``.
        result: analysis JSON; with nothing judged the engraving comes back without marks.
        view: which lanes, and which notes a finding names.
    """
    root = _parse(svg)
    _add_bars(root, geometry, view.bar_numbers)
    if result.get("notes") is None:
        return etree.tostring(root, encoding="unicode")
    lanes = [name for name in view.lanes if name in HEIGHTS and _has_lane(name, result)]
    room = sum(HEIGHTS[name] + LANE_GAP for name in lanes) + (2 * LANE_GAP if lanes else 0)
    places = _Places(geometry, result, view.bar_numbers)
    systems = _systems(root)
    for index, (element, system) in enumerate(zip(systems, geometry["systems"], strict=True)):
        element.set("transform", f"translate(0, {index * room:g})")
        layer = etree.SubElement(element, f"{SVG}g", {"class": "heard"})
        _marks(layer, index, geometry, result, places)
        top = system["bottom"] + LANE_GAP
        for name in lanes:
            group = etree.SubElement(layer, f"{SVG}g", {"class": f"lane lane-{name}"})
            lane = _Lane(
                group=group, name=name, index=index, top=top, system=system, geometry=geometry, result=result, view=view, places=places
            )
            lane.write_name()
            _DRAW[name](lane)
            top += HEIGHTS[name] + LANE_GAP
    _grow(root, room * len(systems), _label_width(geometry) if lanes else 0.0)
    return etree.tostring(root, encoding="unicode")


def _parse(svg: str) -> etree._Element:
    return etree.fromstring(svg.encode(), etree.XMLParser(huge_tree=True, resolve_entities=False))


def _systems(root: etree._Element) -> list[etree._Element]:
    return [g for g in root.iter(f"{SVG}g") if (g.get("data-class") or "") == "system"]


def _has_lane(name: str, result: dict[str, Any]) -> bool:
    """A lane without anything judged in it would be an empty promise."""
    if name == "tempo":
        return bool(result["tempo"]["curve"])
    key = "early_late_ms" if name == "placement" else "cents"
    return any(note[key] is not None for note in result["notes"])


def _is_narrow(geometry: dict[str, Any]) -> bool:
    return bool(geometry["width"] < 10_000)


def _label_width(geometry: dict[str, Any]) -> float:
    return 760.0 if _is_narrow(geometry) else 1330.0


def _grow(root: etree._Element, by: float, left: float) -> None:
    """Make room below for the lanes and on the left for their names."""
    inner = root.find(f"{SVG}svg")
    if inner is None:
        return
    for element, scale in ((inner, 1.0), (root, 0.1)):
        x, y, width, height = (float(v) for v in element.get("viewBox", "0 0 0 0").split())
        element.set("viewBox", f"{x - (left if element is inner else 0):g} {y:g} {width + left * scale:g} {height + by * scale:g}")


def _add_bars(root: etree._Element, geometry: dict[str, Any], numbers: dict[str, str]) -> None:
    systems = _systems(root)
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


class _Places:
    """Where a beat of a bar stands on the page: between the notes written there."""

    def __init__(self, geometry: dict[str, Any], result: dict[str, Any], numbers: dict[str, str]) -> None:
        self._bars: dict[str, list[tuple[float, float, int]]] = {}
        notes = geometry["notes"]
        for note in result["notes"]:
            place = notes.get(note["id"])
            if place:
                self._bars.setdefault(note["bar"], []).append((note["beat"], place["x"], int(place["system"])))
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
class _Lane:
    """One lane under one system: where it is drawn and what it shows."""

    group: etree._Element
    name: str
    index: int
    top: float
    system: dict[str, float]
    geometry: dict[str, Any]
    result: dict[str, Any]
    view: View
    places: _Places

    @property
    def height(self) -> float:
        return HEIGHTS[self.name]

    @property
    def middle(self) -> float:
        return self.top + self.height / 2

    def write_name(self) -> None:
        """The lane spans the system; its name stands in the margin."""
        label = _element(self.group, "text", "lane-label", x=self.system["left"] - 80.0, y=self.middle + 80.0, text_anchor="end")
        label.text = SHORT_NAMES[self.name] if _is_narrow(self.geometry) else self.name

    def zone(self, top: float, bottom: float) -> None:
        left = self.system["left"]
        _element(self.group, "rect", "zone", x=left, y=top, width=self.system["right"] - left, height=bottom - top)

    def rule(self, classes: str, y: float) -> None:
        _element(self.group, "line", classes, x1=self.system["left"], y1=y, x2=self.system["right"], y2=y)

    def notes(self) -> list[tuple[dict[str, Any], float]]:
        """The notes of this system with their places."""
        known = self.geometry["notes"]
        own = [n for n in self.result["notes"] if n["id"] in known and int(known[n["id"]]["system"]) == self.index]
        return [(note, float(known[note["id"]]["x"])) for note in own]

    def dot(self, note: dict[str, Any], x: float, y: float, category: str, words: str, reach_from: tuple[float, float]) -> None:
        """A note's dot; flagged ones are larger and tied to where they should be."""
        flagged = note["id"] in self.view.flagged.get(category, set())
        if flagged:
            _element(self.group, "line", "reach flagged", x1=reach_from[0], y1=reach_from[1], x2=x, y2=y)
        classes = f"dot{' flagged' if flagged else ''}{' again' if note['pass'] > 1 else ''}"
        radius = 66.0 if flagged else 42.0
        _element(self.group, "circle", classes, title=words, cx=x, cy=y, r=radius, data_note=note["id"], data_pass=note["pass"])


def _element(parent: etree._Element, tag: str, classes: str, /, title: str = "", **attributes: Any) -> etree._Element:
    plain = {key.replace("_", "-"): f"{value:g}" if isinstance(value, float) else str(value) for key, value in attributes.items()}
    element = etree.SubElement(parent, f"{SVG}{tag}", {"class": classes, **plain})
    if title:
        etree.SubElement(element, f"{SVG}title").text = title
    return element


def _marks(layer: etree._Element, index: int, geometry: dict[str, Any], result: dict[str, Any], places: _Places) -> None:
    """Circles, dotted circles, ghost heads and extra heads on the staff of one system."""
    for note in result["notes"]:
        place = geometry["notes"].get(note["id"])
        if place is None or int(place["system"]) != index:
            continue
        x, y = float(place["x"]), float(place["y"])
        pitch = note["written_pitch"]
        if note["status"] == "missed":
            _element(layer, "circle", "mark missed", title="Not played", cx=x, cy=y, r=205.0, data_note=note["id"])
        elif note["status"] == "uncertain":
            reason = f"Not judged: {note['reason']}" if note["reason"] else "Not judged"
            _element(layer, "circle", "mark uncertain", title=reason, cx=x, cy=y, r=205.0, data_note=note["id"], tabindex="0")
        elif note["status"] == "wrong_pitch" and note["heard_midi"] is not None:
            _ghost(layer, x, y, pitch, note["heard_midi"] - note["sounding_midi"], note["id"])
    for extra in result["extra"] or []:
        _extra(layer, index, extra, geometry, result, places)


def _ghost(layer: etree._Element, x: float, y: float, written: str, semitones: int, note_id: str) -> None:
    heard_y, sign = _heard_place(y, written, semitones)
    ghost_x = x + 300.0
    group = _element(layer, "g", "mark wrong", title="Heard at this pitch", data_note=note_id)
    _element(group, "line", "tie", x1=x + 60.0, y1=y, x2=ghost_x - 60.0, y2=heard_y)
    _element(group, "ellipse", "ghost", cx=0.0, cy=0.0, rx=118.0, ry=78.0, transform=f"translate({ghost_x:g}, {heard_y:g}) rotate(-20)")
    if sign:
        text = _element(group, "text", "sign", x=ghost_x + 130.0, y=heard_y + 100.0)
        text.text = sign


def _heard_place(y: float, written: str, semitones: int) -> tuple[float, str]:
    """Height on the staff of a heard pitch that lies some semitones from a written one, and its accidental if it needs one."""
    step, octave = written[0], int(written[-1])
    alter = {"bb": -2, "b": -1, "": 0, "#": 1, "##": 2}[written[1:-1]]
    base = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}[step] + alter + 12 * octave
    midi = base + semitones
    heard_step, heard_alter = _SPELLING[midi % 12]
    heard_octave = (midi - heard_alter) // 12
    lines = 7 * (heard_octave - octave) + _STEPS[heard_step] - _STEPS[step]
    return y - STEP * lines, _SIGNS.get(heard_alter, "")


def _extra(
    layer: etree._Element, index: int, extra: dict[str, Any], geometry: dict[str, Any], result: dict[str, Any], places: _Places
) -> None:
    found = places.x(extra["bar"], extra["beat"])
    if found is None or found[1] != index:
        return
    near = min(
        (n for n in result["notes"] if n["id"] in geometry["notes"] and n["onset_s"] is not None),
        key=lambda n: abs(n["onset_s"] - extra["onset_s"]),
        default=None,
    )
    if near is None:
        return
    # A stroke has no pitch: it stands on its neighbour's line.
    semitones = 0 if extra["midi"] is None else extra["midi"] - near["sounding_midi"]
    y, sign = _heard_place(float(geometry["notes"][near["id"]]["y"]), near["written_pitch"], semitones)
    group = _element(layer, "g", "mark extra", title="An extra note is heard here", data_time=extra["onset_s"])
    _element(group, "ellipse", "ghost", cx=0.0, cy=0.0, rx=92.0, ry=50.0, transform=f"translate({found[0]:g}, {y:g}) rotate(-45)")
    if sign:
        _element(group, "text", "sign", x=found[0] + 100.0, y=y + 90.0).text = sign


def _placement(lane: _Lane) -> None:
    lane.zone(lane.top, lane.top + lane.height)
    for note, x in lane.notes():
        _element(lane.group, "line", "stem", x1=x, y1=lane.top + 30.0, x2=x, y2=lane.top + lane.height - 30.0)
        late_ms = note["early_late_ms"]
        if late_ms is None:
            continue
        shift = max(-FARTHEST, min(FARTHEST, late_ms * UNITS_PER_MS))
        words = f"{abs(late_ms):.0f} ms {'early' if late_ms < 0 else 'late'}"
        lane.dot(note, x + shift, lane.middle, "rhythm", words, (x, lane.middle))


def _pitch(lane: _Lane) -> None:
    lane.rule("axis", lane.middle)
    for note, x in lane.notes():
        cents = note["cents"]
        if cents is None:
            continue
        y = lane.middle - max(-HIGHEST, min(HIGHEST, cents * UNITS_PER_CENT))
        words = f"{abs(cents):.0f} cents {'sharp' if cents > 0 else 'flat'}"
        lane.dot(note, x, y, "intonation", words, (x, lane.middle))


def _tempo(lane: _Lane) -> None:
    tempo, pulse = lane.result["tempo"], lane.result["pulse"]
    low = tempo["target_bpm"]
    high = tempo["target_to_bpm"] or low
    band = tempo["band_percent"] or 5.0
    farthest = max((abs(100 * math.log(p["bpm"] / low)) for p in tempo["curve"]), default=0.0)
    reach = min(45.0, max(TEMPO_REACH_PERCENT, 1.6 * band, 1.15 * farthest))

    def y_of(bpm: float) -> float:
        away = 100 * math.log(max(bpm, 1.0) / math.sqrt(low * high))
        return lane.middle - max(-1.0, min(1.0, away / reach)) * lane.height / 2

    lane.zone(y_of(high * (1 + band / 100)), y_of(low * (1 - band / 100)))
    lane.rule("target", y_of(low))
    for points, again in _stretches(lane):
        line = " ".join(f"{x:.0f},{y_of(bpm):.0f}" for x, bpm in points)
        _element(lane.group, "polyline", f"curve{' again' if again else ''}", points=line)
    for pause in pulse["hesitations"]:
        found = lane.places.x(pause["bar"], pause["beat"])
        if found is not None and found[1] == lane.index:
            _break(lane, found[0], f"{pause['extra_s']:.1f} s", pause["time_s"])
    for restart in pulse["restarts"]:
        _restart_arc(lane, restart)


def _stretches(lane: _Lane) -> list[tuple[list[tuple[float, float]], bool]]:
    """The curve's points on this system, (x, tempo), cut at pauses and between passes; True for later passes."""
    pauses = [(h["bar"], h["pass"], h["beat"]) for h in lane.result["pulse"]["hesitations"]]
    stretches: list[tuple[list[tuple[float, float]], bool]] = []
    current: list[tuple[float, float]] = []
    current_pass = 1

    def cut() -> None:
        if len(current) > 1:
            stretches.append((list(current), current_pass > 1))
        current.clear()

    for point in lane.result["tempo"]["curve"]:
        found = lane.places.x(point["bar"], point["beat"])
        if found is None or found[1] != lane.index:
            cut()
            continue
        paused = any((bar, pass_) == (point["bar"], point["pass"]) and abs(beat - point["beat"]) < 0.51 for bar, pass_, beat in pauses)
        if paused or point["pass"] != current_pass:
            cut()
        current_pass = point["pass"]
        current.append((found[0], point["bpm"]))
    cut()
    return stretches


def _break(lane: _Lane, x: float, words: str, time_s: float) -> None:
    group = _element(lane.group, "g", "break", title=f"Pause of {words}", data_time=time_s)
    for shift in (-190.0, -110.0):
        _element(group, "line", "stroke", x1=x + shift, y1=lane.top + 40.0, x2=x + shift, y2=lane.top + lane.height - 40.0)
    _element(group, "text", "seconds", x=x - 150.0, y=lane.top - 20.0, text_anchor="middle").text = words


def _restart_arc(lane: _Lane, restart: dict[str, Any]) -> None:
    start, end = lane.places.x(restart["from_bar"], 2.0), lane.places.x(restart["to_bar"], 0.0)
    if start is None or end is None or end[1] != lane.index:
        return
    x0 = end[0]
    x1 = start[0] if start[1] == lane.index else x0 + 1500.0
    bottom = lane.top + lane.height
    group = _element(lane.group, "g", "restart", title=f"Back to bar {restart['to_bar']}", data_time=restart["time_s"])
    _element(group, "path", "arc", d=f"M{x1:g} {bottom:g} Q{(x0 + x1) / 2:g} {bottom + 220:g} {x0:g} {bottom:g}")
    _element(group, "path", "arrow", d=f"M{x0 + 130:g} {bottom - 20:g} L{x0:g} {bottom:g} L{x0 + 110:g} {bottom + 120:g}")


_DRAW = {"placement": _placement, "pitch": _pitch, "tempo": _tempo}
