"""Which bars of a part are the same, the same at another pitch, or almost the same: learning one of them pays twice.

A bar's pattern is its onsets, lengths and intervals from its first note; of strokes, the chords that they sound. Of two bars that are
almost the same, the later one hides a *trap*: the place where it leaves the pattern that the player has just learnt.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from didactor.core.score.model import ChordSymbol, Note, Part

#: Bars with fewer notes than this are too plain to be called almost the same.
FEWEST_NOTES = 3
_GRID = 48

Slot = tuple[int, tuple[int, ...], int, str]


class Kind(StrEnum):
    """How two bars are alike."""

    SAME = "same"
    TRANSPOSED = "transposed"
    ALMOST = "almost"


@dataclass(frozen=True, slots=True, kw_only=True)
class Likeness:
    """``bar`` is like the earlier ``pattern`` (indices of bars). ``semitones`` from the pattern up; ``trap`` are ids of the notes in
    ``bar`` that leave it (empty where a note of the pattern is left out).
    """

    bar: int
    pattern: int
    kind: Kind
    semitones: int = 0
    trap: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class _Content:
    """A bar as slots of (onset, pitches or nothing for strokes, length, the chord that a stroke sounds) in parts of a quarter, with the
    ids behind each slot.
    """

    slots: tuple[Slot, ...]
    ids: tuple[tuple[str, ...], ...]

    @property
    def shape(self) -> tuple[Slot, ...]:
        """The same with pitches counted from the first."""
        base = next((p[0] for _, p, _, _ in self.slots if p), 0)
        return tuple((onset, tuple(p - base for p in pitches), length, chord) for onset, pitches, length, chord in self.slots)


def likenesses(part: Part) -> list[Likeness]:
    """For every bar that is like an earlier one, the closest likeness: the same before transposed before almost the same."""
    contents = _contents(part)
    found = []
    for index, own in contents.items():
        if not own.slots:
            continue
        earlier = [(i, c) for i, c in contents.items() if i < index and c.slots]
        match = _exact(index, own, earlier) or _transposed(index, own, earlier) or _almost(index, own, earlier)
        if match is not None:
            found.append(match)
    return found


def compared(part: Part) -> dict[tuple[int, int], tuple[Kind, int]]:
    """Every pair of bars that are alike, the later index first, with how they are and how many semitones the later one is higher."""
    contents = {index: content for index, content in _contents(part).items() if content.slots}
    found = {}
    for index, own in contents.items():
        for other, pattern in contents.items():
            if other >= index:
                break
            alone = [(other, pattern)]
            match = _exact(index, own, alone) or _transposed(index, own, alone) or _almost(index, own, alone)
            if match is not None:
                found[index, other] = (match.kind, match.semitones)
    return found


def _contents(part: Part) -> dict[int, _Content]:
    chords = sorted(part.chords, key=lambda c: (c.bar_index, c.onset_quarters))
    by_bar: dict[int, dict[tuple[int, int], list[Note]]] = {bar.index: {} for bar in part.bars}
    for note in part.notes:
        if not note.grace:
            by_bar[note.bar_index].setdefault((round(note.onset_quarters * _GRID), note.staff), []).append(note)
    result = {}
    for index, slots in by_bar.items():
        ordered = sorted(slots.items())
        result[index] = _Content(
            slots=tuple(
                (
                    onset + 100_000 * staff,
                    tuple(sorted(n.sounding_midi for n in notes if not n.unpitched)),
                    round(max(n.duration_quarters for n in notes) * _GRID),
                    _chord_at(chords, index, notes[0].onset_quarters) if notes[0].unpitched else "",
                )
                for (onset, staff), notes in ordered
            ),
            ids=tuple(tuple(n.id for n in notes) for _, notes in ordered),
        )
    return result


def _chord_at(chords: Sequence[ChordSymbol], bar: int, quarters: float) -> str:
    """The chord in force, by its name; empty before the first."""
    return next((c.text for c in reversed(chords) if (c.bar_index, c.onset_quarters) <= (bar, quarters + 1e-6)), "")


def _exact(index: int, own: _Content, earlier: list[tuple[int, _Content]]) -> Likeness | None:
    at = next((i for i, c in earlier if c.slots == own.slots), None)
    return None if at is None else Likeness(bar=index, pattern=at, kind=Kind.SAME)


def _transposed(index: int, own: _Content, earlier: list[tuple[int, _Content]]) -> Likeness | None:
    if len(own.slots) < FEWEST_NOTES or not own.slots[0][1]:
        return None
    at = next(((i, c) for i, c in earlier if c.shape == own.shape), None)
    if at is None:
        return None
    return Likeness(bar=index, pattern=at[0], kind=Kind.TRANSPOSED, semitones=own.slots[0][1][0] - at[1].slots[0][1][0])


def _almost(index: int, own: _Content, earlier: list[tuple[int, _Content]]) -> Likeness | None:
    """One note another pitch, one length another (with what follows from it), one note more or fewer; the bar before counts first."""
    for i, other in reversed(earlier):
        if min(len(own.slots), len(other.slots)) < FEWEST_NOTES:
            continue
        for pattern in _at_other_pitches(other, own):
            trap = _one_difference(pattern[0], own)
            if trap is not None:
                return Likeness(bar=index, pattern=i, kind=Kind.ALMOST, semitones=pattern[1], trap=trap)
    return None


def _at_other_pitches(other: _Content, own: _Content) -> list[tuple[tuple[Slot, ...], int]]:
    """The pattern as it stands and, where it is long enough to be known again, moved to where this bar's first or last note is."""
    found = [(other.slots, 0)]
    if len(other.slots) >= FEWEST_NOTES + 1:
        for at in (0, -1):
            if own.slots[at][1] and other.slots[at][1]:
                shift = own.slots[at][1][0] - other.slots[at][1][0]
                if shift:
                    found.append((tuple((o, tuple(p + shift for p in ps), n, c) for o, ps, n, c in other.slots), shift))
    return found


def _one_difference(pattern: tuple[Slot, ...], own: _Content) -> tuple[str, ...] | None:
    """Ids of the notes that differ, where all the difference is one note; None where more differs."""
    mine_only = [k for k, slot in enumerate(own.slots) if slot not in set(pattern)]
    theirs_only = [slot for slot in pattern if slot not in set(own.slots)]
    if len(mine_only) == len(theirs_only) == 1:
        return own.ids[mine_only[0]]
    # One chord is another, for as many strokes as it lasts.
    pairs = list(zip((own.slots[k] for k in mine_only), theirs_only, strict=False))
    others = {(mine[3], theirs[3]) for mine, theirs in pairs}
    if len(mine_only) == len(theirs_only) and len(others) == 1 and all(mine[:3] == theirs[:3] for mine, theirs in pairs):
        return own.ids[mine_only[0]]
    # A length changed and with it the next onset: a dotted pair for an even one.
    if len(mine_only) == len(theirs_only) == 2 and mine_only[1] == mine_only[0] + 1:
        same_pitches = all(own.slots[k][1] == slot[1] for k, slot in zip(mine_only, theirs_only, strict=True))
        return own.ids[mine_only[1]] if same_pitches else None
    # One note divided in two, or two joined: the same span, beginning with the same pitch.
    mine = [own.slots[k] for k in mine_only]
    for whole, halves in ((mine, theirs_only), (theirs_only, mine)):
        if len(whole) == 1 and len(halves) == 2:
            (onset, pitches, length, _), ((first, first_pitches, first_length, _), (second, _, second_length, _)) = whole[0], halves
            together = first_length + second_length
            if (first, first_pitches, together) == (onset, pitches, length) and second == first + first_length:
                return tuple(i for k in mine_only for i in own.ids[k])
    return None
