"""How a passage is counted: every beat, also under held notes and rests, divided alike throughout, in words that can be said."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from didactor.core.score.model import Bar, Note
from didactor.core.words import _, worded

#: What is said between the beats, in the usual words; a studio may have others.
WORDS = {"and": "and", "e": "e", "a": "a", "trip": "trip", "let": "let"}
#: The words of each division of a beat, after its number.
_BETWEEN = {1: (), 2: ("and",), 3: ("trip", "let"), 4: ("e", "and", "a")}
_NEAR = 0.03


@dataclass(frozen=True, slots=True, kw_only=True)
class Counted:
    """One thing to say: in which bar (its id), at which quarter of it, on which note; None where a note is held or a rest is kept."""

    bar_id: str
    quarters: float
    word: str
    note_id: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Counting:
    """``unit``: what a number is said on, in quarters, by bar index; ``parts``: into how many each is divided, everywhere alike."""

    parts: int
    counts: tuple[Counted, ...]
    in_words: str


def counting(notes: Iterable[Note], bars: Mapping[int, Bar], words: Mapping[str, str] | None = None) -> Counting:
    """How to count a passage.

    Args:
        notes: of one part; grace notes and ties count for nothing.
        bars: index to bar, those that are counted.
        words: a studio's own words for some of ``WORDS``.
    """
    said = {**WORDS, **{key: word for key, word in (words or {}).items() if word}}
    begun = [n for n in notes if not n.grace and not n.tie_stop and n.bar_index in bars]
    eighths = any(_is_compound(bar) for bar in bars.values()) and any(
        _off(_position(n, bars[n.bar_index]), 1.5) for n in begun if _is_compound(bars[n.bar_index])
    )
    units = {index: 0.5 if _is_compound(bar) and eighths else bar.beat_quarters for index, bar in bars.items()}
    parts = _parts([_share(_position(n, bars[n.bar_index]), units[n.bar_index]) for n in begun])
    found: list[Counted] = []
    for index, bar in sorted(bars.items()):
        unit, inside = units[index], [n for n in begun if n.bar_index == index]
        upbeat = _upbeat(bar)
        # Thirds and fourths in one passage: a beat in three is counted in three.
        for number in range(int((upbeat + bar.length_quarters) / unit + 1 - 1e-6)):
            shares = [
                _share(_position(n, bar), unit) for n in inside if abs(_position(n, bar) - number * unit - unit / 2) <= unit / 2 + 1e-6
            ]
            into = 3 if any(abs(s - third) < _NEAR for s in shares for third in (1 / 3, 2 / 3)) else parts
            for step in range(into):
                quarters = (number + step / into) * unit - upbeat
                if not -1e-6 <= quarters < bar.length_quarters - 1e-6:
                    continue
                on = next((n.id for n in inside if abs(n.onset_quarters - quarters) < _NEAR * unit), None)
                word = str(number + 1) if step == 0 else said[_BETWEEN[into][step - 1]]
                found.append(Counted(bar_id=bar.id, quarters=max(0.0, quarters), word=word, note_id=on))
    return Counting(parts=parts, counts=tuple(found), in_words=_in_words(parts, next(iter(bars.values()), None), eighths, said))


def _is_compound(bar: Bar) -> bool:
    return bar.beat_quarters == 1.5


def _upbeat(bar: Bar) -> float:
    """Quarters that an upbeat leaves out: it is counted as the end of a bar."""
    full = 4.0 * bar.beats / bar.beat_type
    return full - bar.length_quarters if bar.length_quarters < full - 1e-6 else 0.0


def _position(note: Note, bar: Bar) -> float:
    return note.onset_quarters + _upbeat(bar)


def _share(position: float, unit: float) -> float:
    """Where between two numbers, 0..1."""
    share = (position + 1e-6) % unit / unit
    return 0.0 if share < _NEAR or share > 1 - _NEAR else share


def _off(position: float, unit: float) -> bool:
    return _share(position, unit) > 0


def _parts(shares: list[float]) -> int:
    """The coarsest division that has a word for every note; fourths where none has."""
    if all(share == 0 for share in shares):
        return 1
    for parts in (2, 3, 4):
        if all(min(abs(share * parts - round(share * parts)), 1.0) < parts * _NEAR for share in shares):
            return parts
    straight = [s for s in shares if abs(s * 3 - round(s * 3)) >= 3 * _NEAR]
    return 2 if all(abs(s * 2 - round(s * 2)) < 2 * _NEAR for s in straight) else 4


BEATS = {
    1: _("Count the beats: {line}."),
    2: _("Count every beat in two: {line}."),
    3: _("Count every beat in three: {line}."),
    4: _("Count every beat in four: {line}."),
}
EIGHTHS = {
    1: _("Count the eighths: {line}."),
    2: _("Count every eighth in two: {line}."),
    3: _("Count every eighth in three: {line}."),
    4: _("Count every eighth in four: {line}."),
}


def _in_words(parts: int, bar: Bar | None, eighths: bool, said: Mapping[str, str]) -> str:
    """“Count every beat in two: 1 and 2 and 3 and 4 and.”"""
    if bar is None:
        return ""
    unit = 0.5 if _is_compound(bar) and eighths else bar.beat_quarters
    numbers = range(1, round(4.0 * bar.beats / bar.beat_type / unit) + 1)
    line = " ".join(" ".join([str(n), *(said[w] for w in _BETWEEN[parts])]) for n in numbers)
    how = EIGHTHS if _is_compound(bar) and eighths else BEATS
    return worded(how[parts], line=line)
