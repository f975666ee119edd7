"""The lanes themselves: placement (of each hand, where there are two), pitch, tempo, loudness."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from didactor.core.formats.lanes.parts import Lane, element
from didactor.core.formats.result import BendHeard, JumpBack, PulseHeard, Result, TempoHeard
from didactor.core.words import _, worded

UNITS_PER_MS, FARTHEST = 1.7, 460.0
UNITS_PER_CENT, HIGHEST = 3.0, 170.0
#: Levels between which the ribbon is drawn, dB against the take's usual.
SOFTEST_DB, LOUDEST_DB = -14.0, 8.0
#: The lane shows at least this much either side of the target, per cent.
TEMPO_REACH_PERCENT = 12.0


def _placement(lane: Lane) -> None:
    lane.zone(lane.top, lane.top + lane.height)
    for note, x in lane.notes():
        element(lane.group, "line", "stem", x1=x, y1=lane.top + 30.0, x2=x, y2=lane.top + lane.height - 30.0)
        late_ms = note.early_late_ms
        if late_ms is None:
            continue
        shift = max(-FARTHEST, min(FARTHEST, late_ms * UNITS_PER_MS))
        words = (
            worded("{late_ms:.0f} ms early", late_ms=abs(late_ms)) if late_ms < 0 else worded("{late_ms:.0f} ms late", late_ms=abs(late_ms))
        )
        lane.dot(note, x + shift, lane.middle, "rhythm", words, (x, lane.middle))


def _pitch(lane: Lane) -> None:
    lane.rule("axis", lane.middle)
    for note, x in lane.notes():
        cents = note.cents
        if cents is None:
            continue
        y = lane.middle - max(-HIGHEST, min(HIGHEST, cents * UNITS_PER_CENT))
        words = worded("{cents:.0f} cents sharp", cents=abs(cents)) if cents > 0 else worded("{cents:.0f} cents flat", cents=abs(cents))
        lane.dot(note, x, y, "intonation", words, (x, lane.middle))


def _tempo(lane: Lane) -> None:
    tempo, pulse = _tempo_and_pulse(lane)
    low = tempo.target_qpm
    high = tempo.target_to_qpm or low
    band = tempo.band_percent or 5.0
    farthest = max((abs(100 * math.log(p.qpm / low)) for p in tempo.curve), default=0.0)
    reach = min(45.0, max(TEMPO_REACH_PERCENT, 1.6 * band, 1.15 * farthest))

    def y_of(qpm: float) -> float:
        away = 100 * math.log(max(qpm, 1.0) / math.sqrt(low * high))
        return lane.middle - max(-1.0, min(1.0, away / reach)) * lane.height / 2

    lane.zone(y_of(high * (1 + band / 100)), y_of(low * (1 - band / 100)))
    lane.rule("target", y_of(low))
    for points, again in _stretches(lane):
        line = " ".join(f"{x:.0f},{y_of(qpm):.0f}" for x, qpm in points)
        element(lane.group, "polyline", f"curve{' again' if again else ''}", points=line)
    for bend in pulse.bends:
        inside = [p for p in tempo.curve if bend.start_s - 1e-3 <= p.time_s <= bend.end_s + 1e-3]
        xs = [found[0] for p in inside if (found := lane.places.x(p.bar, p.beat)) is not None and found[1] == lane.index]
        if len(xs) > 1:
            _bend(lane, min(xs), max(xs), bend)
    for pause in pulse.hesitations:
        found = lane.places.x(pause.bar, pause.beat)
        if found is not None and found[1] == lane.index:
            _break(lane, found[0], worded("{seconds:.1f} s", seconds=pause.extra_s), pause.time_s)
    for restart in pulse.restarts:
        _restart_arc(lane, restart)


def _tempo_and_pulse(lane: Lane) -> tuple[TempoHeard, PulseHeard]:
    """A lane of tempo is drawn only where there is a tempo to draw."""
    assert lane.result.tempo is not None and lane.result.pulse is not None
    return lane.result.tempo, lane.result.pulse


def _stretches(lane: Lane) -> list[tuple[list[tuple[float, float]], bool]]:
    """The curve's points on this system, (x, tempo), cut at pauses and between passes; True for later passes."""
    tempo, pulse = _tempo_and_pulse(lane)
    pauses = [(h.bar, h.pass_, h.beat) for h in pulse.hesitations]
    stretches: list[tuple[list[tuple[float, float]], bool]] = []
    current: list[tuple[float, float]] = []
    current_pass = 1

    def cut() -> None:
        if len(current) > 1:
            stretches.append((list(current), current_pass > 1))
        current.clear()

    for point in tempo.curve:
        found = lane.places.x(point.bar, point.beat)
        if found is None or found[1] != lane.index:
            cut()
            continue
        paused = any((bar, pass_) == (point.bar, point.pass_) and abs(beat - point.beat) < 0.51 for bar, pass_, beat in pauses)
        if paused or point.pass_ != current_pass:
            cut()
        current_pass = point.pass_
        current.append((found[0], point.qpm))
    cut()
    return stretches


def _bend(lane: Lane, x0: float, x1: float, bend: BendHeard) -> None:
    """A bracket over the bars that broaden or press on together: one thing, not a row of late notes."""
    title = (
        worded("broadens, to {share:.0f} % of the usual tempo", share=100 * bend.share)
        if bend.share < 1
        else worded("presses on, to {share:.0f} % of the usual tempo", share=100 * bend.share)
    )
    word = worded("broadens") if bend.share < 1 else worded("presses on")
    group = element(lane.group, "g", "bend", title=title, data_time=bend.start_s)
    top = lane.top + 20.0
    element(group, "polyline", "stroke", points=f"{x0:.0f},{top + 60:.0f} {x0:.0f},{top:.0f} {x1:.0f},{top:.0f} {x1:.0f},{top + 60:.0f}")
    element(group, "text", "bending", x=0.5 * (x0 + x1), y=top - 30.0, text_anchor="middle").text = word


def _break(lane: Lane, x: float, words: str, time_s: float) -> None:
    group = element(lane.group, "g", "break", title=worded("Pause of {words}", words=words), data_time=time_s)
    for shift in (-190.0, -110.0):
        element(group, "line", "stroke", x1=x + shift, y1=lane.top + 40.0, x2=x + shift, y2=lane.top + lane.height - 40.0)
    element(group, "text", "seconds", x=x - 150.0, y=lane.top - 20.0, text_anchor="middle").text = words


def _restart_arc(lane: Lane, restart: JumpBack) -> None:
    start, end = lane.places.x(restart.from_bar, 2.0), lane.places.x(restart.to_bar, 0.0)
    if start is None or end is None or end[1] != lane.index:
        return
    x0 = end[0]
    x1 = start[0] if start[1] == lane.index else x0 + 1500.0
    bottom = lane.top + lane.height
    group = element(lane.group, "g", "restart", title=worded("Back to bar {to_bar}", to_bar=restart.to_bar), data_time=restart.time_s)
    element(group, "path", "arc", d=f"M{x1:g} {bottom:g} Q{(x0 + x1) / 2:g} {bottom + 220:g} {x0:g} {bottom:g}")
    element(group, "path", "arrow", d=f"M{x0 + 130:g} {bottom - 20:g} L{x0:g} {bottom:g} L{x0 + 110:g} {bottom + 120:g}")


def _loudness(lane: Lane) -> None:
    """A ribbon, as thick as the playing is loud; what is marked the same lies on one ground."""
    lane.rule("axis", lane.middle)
    for zone in lane.result.loudness.zones if lane.result.loudness else ():
        start, end = lane.places.x(zone.from_bar, 0.0), lane.places.x(zone.to_bar, 99.0)
        if start is not None and end is not None and start[1] <= lane.index <= end[1]:
            left = start[0] if start[1] == lane.index else lane.system["left"]
            right = end[0] if end[1] == lane.index else lane.system["right"]
            words = worded("{marked}: {db:+.0f} dB against the rest of the take", marked=zone.marked, db=zone.db)
            element(lane.group, "rect", "zone", title=words, x=left, y=lane.top, width=max(10.0, right - left), height=lane.height)
    for points in _loud_stretches(lane):
        upper = [f"{x:.0f},{lane.middle - half:.0f}" for x, half in points]
        lower = [f"{x:.0f},{lane.middle + half:.0f}" for x, half in reversed(points)]
        element(lane.group, "polygon", "ribbon", points=" ".join(upper + lower))


def _loud_stretches(lane: Lane) -> list[list[tuple[float, float]]]:
    """(x, half thickness) through the notes of the first pass, cut where a bar is missing."""
    stretches: list[list[tuple[float, float]]] = [[]]
    for note, x in lane.notes():
        if note.pass_ > 1:
            continue
        if note.loudness_db is None:
            stretches.append([])
            continue
        share = (note.loudness_db - SOFTEST_DB) / (LOUDEST_DB - SOFTEST_DB)
        half = lane.height / 2 * max(0.06, min(1.0, share))
        if stretches[-1] and stretches[-1][-1][0] >= x - 1.0:
            stretches[-1][-1] = (x, max(half, stretches[-1][-1][1]))
        else:
            stretches[-1].append((x, half))
    return [s for s in stretches if len(s) > 1]


@dataclass(frozen=True, slots=True, kw_only=True)
class Kind:
    """A kind of lane; ``short`` is its name on a phone."""

    name: str
    label: str
    short: str
    height: float
    draw: Callable[[Lane], None]
    staff: int | None = None


PLACEMENT = Kind(name="placement", label=_("placement"), short=_("place"), height=300.0, draw=_placement)
HANDS = (
    Kind(name="placement", label=_("right hand"), short=_("right"), height=240.0, draw=_placement, staff=1),
    Kind(name="placement", label=_("left hand"), short=_("left"), height=240.0, draw=_placement, staff=2),
)
PITCH = Kind(name="pitch", label=_("pitch"), short=_("pitch"), height=400.0, draw=_pitch)
TEMPO = Kind(name="tempo", label=_("tempo"), short=_("tempo"), height=340.0, draw=_tempo)
LOUDNESS = Kind(name="loudness", label=_("loudness"), short=_("loud"), height=240.0, draw=_loudness)


def lanes_of(wanted: tuple[str, ...], result: Result) -> list[Kind]:
    """The lanes to draw. A lane without anything judged in it would be an empty promise."""

    notes = result.notes or ()
    kinds: list[Kind] = []
    if "placement" in wanted and any(note.early_late_ms is not None for note in notes):
        kinds += HANDS if result.hands is not None else (PLACEMENT,)
    if "pitch" in wanted and any(note.cents is not None for note in notes):
        kinds.append(PITCH)
    if "tempo" in wanted and result.tempo is not None and result.pulse is not None and result.tempo.curve:
        kinds.append(TEMPO)
    if "loudness" in wanted and result.loudness is not None:
        kinds.append(LOUDNESS)
    return kinds
