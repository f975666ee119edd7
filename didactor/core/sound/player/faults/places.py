"""Where a fault happens, in a performance."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from didactor.core.errors import PassageError
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.performance import PerformedNote
from didactor.core.words import worded

Fault = dict[str, Any]
Notes = list[PerformedNote]


def place(notes: Notes, fault: Fault, expectation: Expectation) -> int:
    """Index in ``notes`` of the note a fault names. Raises ``PassageError`` where there is none."""
    if "note" in fault:
        wanted = expectation.notes[int(fault["note"])] if 0 <= int(fault["note"]) < len(expectation.notes) else None
    else:
        wanted = next(
            (
                n
                for n in expectation.notes
                if n.bar == str(fault.get("bar")) and n.pass_ == fault.get("pass", 1) and abs(n.beat - fault.get("beat", 0.0)) < 1e-3
            ),
            None,
        )
    if wanted is not None:
        for index, note in enumerate(notes):
            if note.id == wanted.id and note.pass_ == wanted.pass_:
                return index
    raise PassageError("faults.place", worded("The fault {fault} names a note that is not in the passage.", fault=fault))


def bar_start(notes: Notes, at: int, expectation: Expectation, bars_back: int) -> int:
    """Index of the first note of the bar that lies ``bars_back`` before the bar of note ``at``."""
    starts = [b.start_quarters for b in expectation.bars]
    here = max(i for i, s in enumerate(starts) if s <= notes[at].quarters + 1e-6)
    start = starts[max(0, here - bars_back)]
    return next(i for i, n in enumerate(notes) if n.quarters >= start - 1e-6)


def shifted(notes: Notes, seconds: float) -> Notes:
    return [replace(n, onset_s=n.onset_s + seconds, offset_s=n.offset_s + seconds) for n in notes]


def first_at(notes: Notes, at: int) -> int:
    """Index of the first note that begins with note ``at``: a pause before a chord is before all of it."""
    return next(i for i, n in enumerate(notes) if abs(n.quarters - notes[at].quarters) < 1e-6 and n.pass_ == notes[at].pass_)


def seconds_per_quarter(notes: Notes) -> float:
    span = notes[-1].quarters - notes[0].quarters
    return (notes[-1].onset_s - notes[0].onset_s) / span if span > 0 else 0.6
