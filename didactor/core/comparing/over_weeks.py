"""Takes over weeks: tempi that were played clean, what comes back in the same place, how honest an ear is. Silent below enough data."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date

from didactor.core.judging.categories import TITLES
from didactor.core.words import counted, worded

#: A line over weeks needs so many takes; a place comes back from so many on.
LINE_FROM, BACK_FROM = 2, 2
#: Shares of clean takes are compared between two stretches of so many.
STRETCH = 5
#: An ear is told from so many places on; the student's place is the ear's within so many bars.
EAR_FROM, NEAR_BARS = 10, 1


@dataclass(frozen=True, slots=True, kw_only=True)
class TakeThen:
    """One take that was handed in. ``piece``: what it belongs to; ``tempo``: as played, in beats of its own unit, None where not measured.

    ``places`` and ``pins``: bar (as an index into the passage) and category of what was heard, and of what the student marked.
    ``thinking_s``: seconds of pauses, of a first reading only.
    """

    key: int
    day: date
    piece: str
    title: str
    unit: str
    tempo: float | None
    asked: float
    findings: int
    categories: Counter[str] = field(default_factory=Counter)
    places: Sequence[tuple[str, int, str]] = ()
    pins: Sequence[tuple[str, int, str]] = ()
    marked: bool = False
    thinking_s: float | None = None

    @property
    def is_clean(self) -> bool:
        return self.findings == 0


@dataclass(frozen=True, slots=True, kw_only=True)
class TempoLine:
    """One piece over weeks. ``best``: the fastest clean tempo so far, after each take (None before the first clean one)."""

    piece: str
    unit: str
    takes: Sequence[TakeThen]
    best: Sequence[float | None]


def tempo_lines(takes: Sequence[TakeThen]) -> list[TempoLine]:
    """Pieces with takes enough for a line, the one that was played last first. ``takes`` in order of time."""
    pieces: dict[tuple[str, str], list[TakeThen]] = {}
    for take in takes:
        if take.tempo is not None:
            pieces.setdefault((take.piece, take.unit), []).append(take)
    lines = []
    for (piece, unit), own in pieces.items():
        if len(own) < LINE_FROM:
            continue
        best: list[float | None] = []
        for take in own:
            before = best[-1] if best else None
            best.append(max(before or 0.0, take.tempo or 0.0) if take.is_clean else before)
        lines.append(TempoLine(piece=piece, unit=unit, takes=own, best=best))
    return sorted(lines, key=lambda line: line.takes[-1].day, reverse=True)


def thinking_lines(takes: Sequence[TakeThen]) -> list[tuple[str, list[TakeThen]]]:
    """First readings by piece, with takes enough for a line, the one that was played last first. ``takes`` in order of time."""
    pieces: dict[str, list[TakeThen]] = {}
    for take in takes:
        if take.thinking_s is not None:
            pieces.setdefault(take.piece, []).append(take)
    lines = [(piece, own) for piece, own in pieces.items() if len(own) >= LINE_FROM and any(take.thinking_s for take in own)]
    return sorted(lines, key=lambda line: line[1][-1].day, reverse=True)


def clean_in_words(takes: Sequence[TakeThen]) -> str:
    """“Clean: 4 of the last 5 takes, 1 of the 5 before.” Nothing where there are fewer than two such stretches."""
    if len(takes) < 2 * STRETCH:
        return ""
    last, before = takes[-STRETCH:], takes[-2 * STRETCH : -STRETCH]
    return worded(
        "Clean: {clean} of the last {stretch} takes, {before} of the {stretch} before.",
        clean=sum(t.is_clean for t in last),
        stretch=STRETCH,
        before=sum(t.is_clean for t in before),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class SamePlace:
    """A bar of one piece in which the same kind of thing was heard in several takes; ``last``: the newest of them."""

    piece: str
    bar: str
    category: str
    takes: int
    of: int
    last: int

    @property
    def title(self) -> str:
        return TITLES.get(self.category, self.category)


def same_places(takes: Sequence[TakeThen]) -> list[SamePlace]:
    """The most frequent first; what is mended since (not in the newest take of its piece that has the bar) is left out."""
    found: dict[tuple[str, str, str], list[TakeThen]] = {}
    of: Counter[str] = Counter()
    newest: dict[str, TakeThen] = {}
    for take in takes:
        of[take.piece] += 1
        newest[take.piece] = take
        for bar, _, category in dict.fromkeys(take.places):
            own = found.setdefault((take.piece, bar, category), [])
            if not own or own[-1].key != take.key:
                own.append(take)
    back = [
        SamePlace(piece=piece, bar=bar, category=category, takes=len(own), of=of[piece], last=own[-1].key)
        for (piece, bar, category), own in found.items()
        if len(own) >= BACK_FROM and own[-1].key == newest[piece].key
    ]
    return sorted(back, key=lambda place: (-place.takes, place.piece, place.bar))


@dataclass(frozen=True, slots=True, kw_only=True)
class Ear:
    """Places in takes that the student marked: heard by both, by the machine alone, by the student alone."""

    both: int
    machine: int
    student: int
    takes: int

    @property
    def says(self) -> str:
        """“Of 14 places that were heard, 9 were marked by the student too; 3 marks stand alone (8 takes).”"""
        heard = self.both + self.machine
        values = {"heard": heard, "both": self.both, "takes": self.takes}
        if not self.student:
            return worded("Of {heard} places that were heard, {both} were marked by the student too ({takes} takes).", **values)
        return counted(
            "Of {heard} places that were heard, {both} were marked by the student too; {count} mark stands alone ({takes} takes).",
            "Of {heard} places that were heard, {both} were marked by the student too; {count} marks stand alone ({takes} takes).",
            self.student,
            **values,
        )


def ear_over(takes: Sequence[TakeThen]) -> Ear | None:
    """How often a student hears what is heard; None for too few places to tell."""
    both = machine = student = 0
    marked = [take for take in takes if take.marked]
    for take in marked:
        left = list(dict.fromkeys(take.pins))
        for _, at, category in dict.fromkeys(take.places):
            near = next((pin for pin in left if pin[2] == category and abs(pin[1] - at) <= NEAR_BARS), None)
            if near is None:
                machine += 1
            else:
                left.remove(near)
                both += 1
        student += len(left)
    return Ear(both=both, machine=machine, student=student, takes=len(marked)) if both + machine + student >= EAR_FROM else None
