"""Rhythms by level: what a bar may be made of, and lines of strokes and rests."""

from __future__ import annotations

import random
from fractions import Fraction

from didactor.core.score.generate.layout import bar_length, lay_out, value_of

#: Groups that fill one beat (a quarter, or a dotted quarter), simplest first, from which level on; and those that fill two.
_SIMPLE: dict[str, tuple[str, ...]] = {
    "beginner": ("q", "q", "e e"),
    "elementary": ("q", "e e", "e e", "r"),
    "intermediate": ("q", "e e", "e. s", "e s s", "s s e", "r", "re e"),
    "advanced": ("q", "e e", "e. s", "e s s", "s s e", "s s s s", "e3 e3 e3", "s e.", "re e", "s e s", "e re"),
}
_SIMPLE_TWO: dict[str, tuple[str, ...]] = {
    "beginner": ("h", "h"),
    "elementary": ("h", "q. e"),
    "intermediate": ("h", "q. e", "e q e", "e q."),
    "advanced": ("q. e", "e q e", "e q.", "e. e. e"),
}
_COMPOUND: dict[str, tuple[str, ...]] = {
    "beginner": ("q.", "q.", "e e e"),
    "elementary": ("q.", "q e", "e e e"),
    "intermediate": ("q.", "q e", "e e e", "e q", "rq e"),
    "advanced": ("q.", "q e", "e e e", "e q", "e. s e", "s s e e", "e e s s", "rq e", "e re e"),
}


def bar_of_rhythm(beats: int, beat_type: int, level: str, rng: random.Random) -> list[tuple[bool, Fraction]]:
    """One bar as (sounds, quarters). Pairs of beats begin on odd beats only, so that the middle of a bar stays visible."""
    compound = beat_type == 8 and beats % 3 == 0
    beat = Fraction(3, 2) if compound else Fraction(4, beat_type)
    count = int(bar_length(beats, beat_type) / beat)
    scale = Fraction(1) if compound else beat
    result: list[tuple[bool, Fraction]] = []
    at = 0
    while at < count:
        if not compound and at % 2 == 0 and at + 2 <= count and rng.random() < 0.3:
            group = rng.choice(_SIMPLE_TWO[level])
            at += 2
        else:
            group = rng.choice((_COMPOUND if compound else _SIMPLE)[level])
            at += 1
        for token in group.split():
            sounds = not token.startswith("r")
            result.append((sounds, value_of(token.lstrip("r") or "q") * scale))
    return result


def rhythm_text(bars: int, beats: int, beat_type: int, level: str, seed: int) -> str:
    """Strokes and rests as the text of a ``Line``; it begins and ends with a stroke."""
    rng = random.Random(f"rhythm {level} {beats}/{beat_type} {bars} {seed}")
    lines = [bar_of_rhythm(beats, beat_type, level, rng) for _ in range(bars - 1)]
    lines.append([(True, bar_length(beats, beat_type))] if bars > 1 else bar_of_rhythm(beats, beat_type, level, rng))
    lines[0][0] = (True, lines[0][0][1])
    return " | ".join(lay_out([("x" if s else "r", v, "") for s, v in bar], beats, beat_type) for bar in lines)
