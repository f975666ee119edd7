"""A rhythm laid on a melody: every beat of every long note takes the pattern, on that note's pitch, with words under it."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from didactor.core.errors import PassageError
from didactor.core.score.generate.layout import lay_out, value_of
from didactor.core.words import worded


def notes_that_take(notes: Sequence[tuple[str, Fraction]], pattern: str) -> tuple[int, int]:
    """How many notes are long enough for a pattern, and how many notes there are. Raises ``PassageError`` for a pattern not understood."""
    length = sum(_values(pattern), Fraction(0))
    lengths = [duration for name, duration in notes if name != "r"]
    return sum(duration >= length for duration in lengths), len(lengths)


def _values(pattern: str) -> list[Fraction]:
    try:
        values = [value_of(token) for token in pattern.split()]
    except (KeyError, IndexError) as error:
        raise PassageError("exercise.pattern", worded("Write the rhythm as values, like “s s e” or “e. s”.")) from error
    if not values:
        raise PassageError("exercise.pattern", worded("Write at least one value for the rhythm, like “s s e”."))
    return values


def vary(notes: Sequence[tuple[str, Fraction]], pattern: str, words: str, beats: int, beat_type: int) -> str:
    """The varied melody as the text of a ``Line``.

    Args:
        notes: names (``r`` for rests) with their lengths in quarters, one voice without gaps.
        pattern: values that are laid on each stretch of their own length, like ``s s e``.
        words: syllables for the notes of the pattern, with a hyphen inside words; may be empty.

    Raises:
        PassageError: a pattern or words that are not understood.
    """
    values = _values(pattern)
    syllables = [s for word in words.split() for s in word.replace("-", "- ").split()]
    if syllables and len(syllables) != len(values):
        raise PassageError(
            "exercise.words",
            worded(
                "There are {syllables} syllables for {values} notes. Write one syllable a note, with hyphens inside words.",
                syllables=len(syllables),
                values=len(values),
            ),
        )
    length = sum(values, Fraction(0))
    varied: list[tuple[str, Fraction, str]] = []
    for name, duration in notes:
        if name != "r":
            while duration >= length:
                varied += [(name, v, f"%{s}" if s else "") for v, s in zip(values, syllables or [""] * len(values), strict=True)]
                duration -= length
        if duration:
            varied.append((name, duration, ""))
    return lay_out(varied, beats, beat_type)
