"""Notes one after the other, laid into bars: split and tied where a bar line or an unwritable length demands it."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction

from didactor.core.score.write.as_musicxml import VALUES

#: Lengths that one notehead can have, the longest first, with their tokens.
_WRITABLE = sorted(
    [(length, name) for name, length in VALUES.items()] + [(length * 3 / 2, f"{name}.") for name, length in VALUES.items() if name != "t"],
    reverse=True,
)
_TRIPLETS = sorted([(length * 2 / 3, f"{name}3") for name, length in VALUES.items()], reverse=True)


def value_of(token: str) -> Fraction:
    """Length in quarters of a value such as ``q``, ``e.`` or ``e3``. Raises ``KeyError`` for another."""
    length = VALUES[token[0]]
    if "." in token:
        length *= Fraction(3, 2)
    return length * Fraction(2, 3) if token.endswith("3") else length


def bar_length(beats: int, beat_type: int) -> Fraction:
    return Fraction(4 * beats, beat_type)


def tokens_for(length: Fraction) -> list[str]:
    """Values that make up a length, to be tied; the longest first. Raises ``ValueError`` where there are none."""
    tokens = []
    while length > 0:
        thirds = length.denominator % 3 == 0
        # Of a length with thirds, whole quarters first, then parts of triplets.
        choices = _TRIPLETS if thirds and length < 1 else [(v, n) for v, n in _WRITABLE if not thirds or v.denominator == 1]
        value, name = next(((v, n) for v, n in choices if v <= length), (Fraction(0), ""))
        if not name:
            raise ValueError(f"no note values make {length} quarters")
        tokens.append(name)
        length -= value
    return tokens


def lay_out(notes: Iterable[tuple[str, Fraction, str]], beats: int, beat_type: int, *, fill: bool = True) -> str:
    """Notes as (name or ``r`` or ``x``, quarters, marks) to the bars of a ``Line``.

    Args:
        fill: lengthen the last note to the end of its bar; else rests fill it.
    """
    full = bar_length(beats, beat_type)
    listed = list(notes)
    total = sum((length for _, length, _ in listed), Fraction(0))
    left_over = -total % full
    if left_over and listed:
        name, length, marks = listed[-1]
        if fill and name != "r":
            listed[-1] = (name, length + left_over, marks)
        else:
            listed.append(("r", left_over, ""))
    bars: list[list[str]] = [[]]
    used = Fraction(0)
    for name, length, marks in listed:
        pieces: list[str] = []
        while length > 0:
            if used == full:
                bars.append([])
                used = Fraction(0)
            here = min(length, full - used)
            to_beat = -used % 1
            if to_beat and here > to_beat and (len(tokens_for(here)) > 1 or here.denominator % 3 == 0):
                here = to_beat  # what begins between beats and has no head of its own is split where the beat is
            for token in tokens_for(here):
                bars[-1].append(f"{name}:{token}")
                pieces.append(token)
                if name != "r" and not (here == length and token == tokens_for(here)[-1]):
                    bars[-1][-1] += "~"
            used += here
            length -= here
        if marks:
            _mark_first(bars, len(pieces), marks)
    return " | ".join(" ".join(bar) for bar in bars)


def _mark_first(bars: list[list[str]], back: int, marks: str) -> None:
    """Put marks on the first of the last ``back`` tokens; they stand after its tie."""
    flat = [(b, i) for b, bar in enumerate(bars) for i in range(len(bar))]
    bar, index = flat[-back]
    bars[bar][index] += marks
