"""Takes of one passage by many students: which place goes wrong for how many, and whether it is one kind of instrument.

A place is a bar and a beat as they are written, so that parts in every transposition meet in it. Counted are only students whose take
could be judged in that bar. What happened to few says nothing of a class and is left out.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from didactor.core.instruments import BY_SLUG, Instrument
from didactor.core.judging.words import beat_in_words
from didactor.core.words import _, worded

#: A fault is common from so many students on, and from this share of those who could be judged there.
FEWEST, SHARE = 3, 0.3
#: In a class smaller than this two are enough.
SMALL_CLASS = 6
#: A kind of instrument stands out with so many of its own at fault, half of them at least, this share of all who are, and so many times
#: the share of the others.
KIND_FEWEST, KIND_HALF, KIND_OF_ALL, KIND_TIMES = 3, 0.5, 0.6, 2.0
#: Sounding no lower, and no higher, than this: high and low instruments, MIDI numbers.
HIGH_FROM, LOW_TO = 57, 45

#: What a finding says of its place, by its code; two where its size has a direction (below nothing, above it).
WORDS: dict[str, tuple[str, ...]] = {
    "rhythm.placement": (_("early"), _("late")),
    "rhythm.entry": (_("entered early"), _("entered late")),
    "rhythm.together": (_("hands not together"),),
    "rhythm.uneven": (_("uneven"),),
    "rhythm.count": (_("fewer strokes than written"), _("more strokes than written")),
    "notes.wrong": (_("another note"),),
    "notes.key_signature": (_("not in the key"),),
    "notes.missed": (_("not played"),),
    "notes.extra": (_("a note too many"),),
    "chords.wrong": (_("another chord"),),
    "intonation.note": (_("flat"), _("sharp")),
    "flow.hesitation": (_("a pause before it"),),
    "flow.restart": (_("begun again"),),
    "flow.skipped": (_("left out"),),
    "articulation.cut_short": (_("cut short"),),
    "articulation.rest_filled": (_("the rest is not kept"),),
    "tempo.bend": (_("slower or faster than before"),),
    "dynamics.hairpin": (_("the change of loudness is not heard"),),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """One finding: ``beat`` in quarters from the bar's beginning, None for the whole bar; seconds of the take where it can be heard."""

    code: str
    category: str
    bar: str
    beat: float | None = None
    size: float | None = None
    start_s: float | None = None
    end_s: float | None = None

    @property
    def what(self) -> str:
        """What it says of its place; nothing for findings that belong to no single place."""
        words = WORDS.get(self.code, ())
        return "" if not words else words[-1] if len(words) == 1 or (self.size or 0.0) >= 0 else words[0]


@dataclass(frozen=True, slots=True, kw_only=True)
class Student:
    """What was heard of one: ``key`` whatever tells them apart, ``judged`` the bars that could be judged in their take."""

    key: int
    instrument: str
    judged: frozenset[str]
    places: Sequence[Place]


@dataclass(frozen=True, slots=True, kw_only=True)
class Common:
    """What many share: ``who`` of ``judged`` students, ``mostly`` a kind of instrument (or empty)."""

    category: str
    bar: str
    beat: float | None
    what: str
    who: tuple[int, ...]
    judged: int
    mostly: str = ""

    def place(self, beat_quarters: float) -> str:
        """“Bar 6, beat 4”."""
        return (
            worded("Bar {bar}", bar=self.bar)
            if self.beat is None
            else worded("Bar {bar}, beat {beat}", bar=self.bar, beat=beat_in_words(self.beat, beat_quarters))
        )

    def says(self, beat_quarters: float) -> str:
        """“Bar 6, beat 4: early, 14 of 19 judged, mostly brass”."""
        values = {"place": self.place(beat_quarters), "what": self.what, "who": len(self.who), "judged": self.judged}
        if self.mostly:
            return worded("{place}: {what}, {who} of {judged} judged, mostly {mostly}", **values, mostly=self.mostly)
        return worded("{place}: {what}, {who} of {judged} judged", **values)


def common_faults(students: Sequence[Student]) -> list[Common]:
    """What goes wrong for many in one place, the most shared first."""
    at_fault: dict[tuple[str, str, float | None, str], dict[int, None]] = {}
    for student in students:
        for place in student.places:
            if place.what and place.bar in student.judged:
                beat = None if place.beat is None else round(place.beat, 2)
                at_fault.setdefault((place.category, place.bar, beat, place.what), {})[student.key] = None
    found = []
    for (category, bar, beat, what), who in at_fault.items():
        judged = [s for s in students if bar in s.judged]
        if len(who) >= max(2 if len(judged) < SMALL_CLASS else FEWEST, SHARE * len(judged)):
            mostly = _mostly(judged, set(who))
            found.append(Common(category=category, bar=bar, beat=beat, what=what, who=tuple(who), judged=len(judged), mostly=mostly))
    order = {bar: k for k, bar in enumerate(dict.fromkeys(p.bar for s in students for p in s.places))}
    return sorted(found, key=lambda c: (-len(c.who) / c.judged, order[c.bar], c.beat or 0.0))


def _mostly(judged: Sequence[Student], who: set[int]) -> str:
    """The widest kind of instrument that stands out among those at fault."""
    kinds: dict[str, set[int]] = {}
    for student in judged:
        for kind in kinds_of(BY_SLUG.get(student.instrument)):
            kinds.setdefault(kind, set()).add(student.key)
    best = ""
    for kind, members in sorted(kinds.items(), key=lambda entry: -len(entry[1])):
        others = len(judged) - len(members)
        inside, outside = len(members & who), len(who - members)
        if others == 0 or inside < max(KIND_FEWEST, KIND_HALF * len(members), KIND_OF_ALL * len(who)):
            continue
        if inside / len(members) >= KIND_TIMES * max(outside / others, 1e-9) and not best:
            best = kind
    return best


def kinds_of(instrument: Instrument | None) -> Iterable[str]:
    """Groups that an instrument belongs to, in words: its family, how it is fingered, how high it sounds, itself."""
    if instrument is None:
        return
    yield instrument.family
    fingered = instrument.fingering.split(" ")[0]
    if fingered in ("valves", "slide"):
        yield {"valves": worded("instruments with valves"), "slide": worded("instruments with a slide")}[fingered]
    if instrument.low >= HIGH_FROM:
        yield worded("high instruments")
    if instrument.low <= LOW_TO:
        yield worded("low instruments")
    yield instrument.title
