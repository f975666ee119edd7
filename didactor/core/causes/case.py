"""One take and its score, as causes look at them: what went wrong where, and what is special about each place."""

from __future__ import annotations

import math
from collections.abc import Collection
from dataclasses import dataclass
from functools import cached_property

from didactor.core.formats.result import NoteResult, Result
from didactor.core.hearing.hearing import Status
from didactor.core.score.model import Note, Part
from didactor.core.score.study.hand_moves import hand_moves
from didactor.core.score.study.likeness import Likeness, likenesses

#: A fault counts from this confidence on.
SURE = 0.6
#: Places are called special to the faults with so many of them there, and from this much evidence on (natural units).
FEWEST_THERE, FROM_NATS = 2, 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Fault:
    """``kind``: ``wrong``, ``missed``, ``late`` or ``pause`` (before the note). ``index`` is its place among the result's notes."""

    index: int
    note: NoteResult
    kind: str


@dataclass(frozen=True, kw_only=True)
class Case:
    """``part`` is what the student reads; its notes have the ids of the result's."""

    result: Result
    part: Part

    @cached_property
    def written(self) -> dict[str, Note]:
        return {note.id: note for note in self.part.notes}

    @cached_property
    def order(self) -> list[NoteResult]:
        """The notes in performed order that the part knows."""
        return [note for note in self.result.notes or () if note.id in self.written]

    @cached_property
    def faults(self) -> list[Fault]:
        """In performed order; one a note, the first kind that holds."""
        late = {n for f in self.result.findings or () if f.code == "rhythm.placement" and (f.size or 0) > 0 for n in f.note_ids}
        paused = {pause.note_id for pause in (self.result.pulse.hesitations if self.result.pulse else ())}
        found = []
        for index, note in enumerate(self.order):
            if note.status is Status.WRONG_PITCH and note.confidence >= SURE:
                kind = "wrong"
            elif note.status is Status.MISSED and note.confidence >= SURE:
                kind = "missed"
            elif note.id in late:
                kind = "late"
            elif note.id in paused:
                kind = "pause"
            else:
                continue
            found.append(Fault(index=index, note=note, kind=kind))
        return found

    @cached_property
    def wrong(self) -> list[Fault]:
        """Wrong notes whose sound is known."""
        return [fault for fault in self.faults if fault.kind == "wrong" and fault.note.heard_midi is not None]

    @cached_property
    def likeness(self) -> dict[int, Likeness]:
        return {found.bar: found for found in likenesses(self.part)}

    @cached_property
    def moves(self) -> dict[str, str]:
        """Note id to what the hand does there."""
        return hand_moves(self.part.notes, self.result.instrument)

    def at(self, bar_index: int, onset_quarters: float, staff: int) -> list[Note]:
        """Written notes at a place."""
        return [
            n
            for n in self.part.notes
            if n.bar_index == bar_index and n.staff == staff and abs(n.onset_quarters - onset_quarters) < 1e-6 and not n.grace
        ]

    def concentrated(self, places: Collection[str], kinds: Collection[str] = ("wrong", "missed", "late", "pause")) -> list[Fault]:
        """The faults at some places, where these are special to them: more often there than elsewhere, by the odds of two rates against
        one (Beta-binomial, uniform priors). Empty where it may be chance.
        """
        there = [f for f in self.faults if f.note.id in places and f.kind in kinds]
        elsewhere = sum(f.kind in kinds for f in self.faults) - len(there)
        special = sum(note.id in places for note in self.order)
        usual = len(self.order) - special
        if len(there) < FEWEST_THERE or not usual or len(there) / max(1, special) <= elsewhere / usual:
            return []
        apart = _evidence(len(there), special) + _evidence(elsewhere, usual)
        together = _evidence(len(there) + elsewhere, special + usual)
        return there if apart - together >= FROM_NATS else []


def _evidence(hits: int, of: int) -> float:
    """Log of the Beta-binomial's marginal likelihood of a row of hits, under a uniform prior."""
    return math.lgamma(1 + hits) + math.lgamma(1 + of - hits) - math.lgamma(2 + of)
