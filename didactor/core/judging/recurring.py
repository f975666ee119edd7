"""Faults that are no accident: they gather on one kind of note far more than chance would have it.

The number of faults that fall on a class of notes, drawn blindly, follows the hypergeometric distribution (Fisher's exact test). A
pattern is claimed when what was found is that improbable, and nearly all faults of its kind lie in the class: a coincidence named
as a habit would send a student to practise the wrong thing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from math import comb
from typing import Any

from didactor.core.judging.evidence import Evidence, NoteJudgement
from didactor.core.judging.registry import Finding
from didactor.core.words import _, counted

#: So many faults at least, this share of them in the class, and as improbable as this by chance.
FEWEST, LEAST_SHARE, MOST_CHANCE = 3, 0.75, 0.004
#: What a fault of one note is called in a sentence, by the finding that says it.
WORDS = {
    "notes.wrong": _("wrong notes"),
    "notes.missed": _("missing notes"),
    "intonation.note": _("notes out of tune"),
    "rhythm.placement": _("early or late notes"),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """An expected note with its index and the note before it in its own staff and voice."""

    index: int
    item: NoteJudgement
    before: NoteJudgement | None

    @property
    def interval(self) -> int:
        """Semitones from the note before; 0 where there is none."""
        return 0 if self.before is None else self.item.note.sounding_midi - self.before.note.sounding_midi


@dataclass(frozen=True, slots=True, kw_only=True)
class Recurring:
    """Faults of one code that gather on a class of notes."""

    code: str
    places: tuple[Place, ...]
    faults: int
    chance: float


def places_of(evidence: Evidence) -> list[Place]:
    """Every expected note, in performed order."""
    last: dict[int, NoteJudgement] = {}
    found = []
    for index, item in enumerate(evidence.notes):
        found.append(Place(index=index, item=item, before=last.get(item.note.staff)))
        last[item.note.staff] = item
    return found


def recurring(
    evidence: Evidence, findings: Sequence[Finding], belongs: Callable[[Place], bool], codes: Iterable[str] = WORDS
) -> list[Recurring]:
    """The codes of which a pattern is proved for the notes that ``belongs`` accepts; the least probable first."""
    places = places_of(evidence)
    inside = {p.index for p in places if belongs(p)}
    if not inside or len(inside) == len(places):
        return []
    by_key = {(p.item.note.id, p.item.note.pass_): p for p in places}
    found = []
    for code in codes:
        faults = {
            by_key[key].index: by_key[key]
            for f in findings
            if f.code == code and f.note_ids and (key := (f.note_ids[0], f.pass_ or 1)) in by_key
        }
        hits = [place for index, place in sorted(faults.items()) if index in inside]
        if len(hits) < FEWEST or len(hits) < LEAST_SHARE * len(faults):
            continue
        chance = by_chance(len(hits), len(places), len(inside), len(faults))
        if chance <= MOST_CHANCE:
            found.append(Recurring(code=code, places=tuple(hits), faults=len(faults), chance=chance))
    return sorted(found, key=lambda r: r.chance)


def by_chance(hits: int, of: int, inside: int, drawn: int) -> float:
    """How probable it is that, of ``drawn`` from ``of`` without putting back, at least ``hits`` are among the ``inside``.

    The upper tail of the hypergeometric distribution in whole numbers: SciPy's takes a second to load, in every start of the ear.
    """
    ways = sum(comb(inside, k) * comb(of - inside, drawn - k) for k in range(hits, min(inside, drawn) + 1))
    return ways / comb(of, drawn)


def as_finding(found: Recurring, *, code: str, category: str, text: str) -> Finding:
    """One remark for all of them, placed at the first."""
    first = found.places[0].item
    return Finding(
        code=code,
        category=category,
        text=text,
        confidence=1.0 - found.chance,
        severity=8.5,
        bar=first.note.bar,
        pass_=first.note.pass_,
        beat=first.note.beat,
        note_ids=tuple(dict.fromkeys(p.item.note.id for p in found.places)),
        size=float(len(found.places)),
        unit="notes",
        start_s=first.onset_s,
        end_s=first.offset_s,
    )


def bars_in_words(found: Recurring) -> str:
    """“bars 3, 5, 9”."""
    bars = list(dict.fromkeys(p.item.note.bar for p in found.places))
    return counted("bar {bars}", "bars {bars}", len(bars), bars=", ".join(bars[:8]))


def counts_of(found: Recurring) -> dict[str, Any]:
    """What a sentence about it names."""
    return {"places": len(found.places), "faults": found.faults, "which": WORDS[found.code], "bars": bars_in_words(found)}
