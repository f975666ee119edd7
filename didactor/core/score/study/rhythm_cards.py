"""Rhythm cards for small children: every rhythm of a passage once, a bar to a card, with syllables to say it by.

The syllables are those of many primers: “ta” for a beat, “ti” for its half, “ri” between halves, a vowel more for every further beat.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from didactor.core.score.model import Bar, Note
from didactor.core.score.write.draft import DraftBar, DraftNote, DraftPart, write_draft

MOST_CARDS = 8


@dataclass(frozen=True, slots=True, kw_only=True)
class Card:
    """A rhythm and the bars that have it. ``values``: (length in quarters, whether it is a rest), from the bar's beginning."""

    values: tuple[tuple[Fraction, bool], ...]
    bars: tuple[str, ...]
    metre: tuple[int, int]

    @property
    def spoken(self) -> tuple[str, ...]:
        at, words = Fraction(0), []
        beat = Fraction(4, self.metre[1])
        for length, is_rest in self.values:
            words.append("" if is_rest else _syllable(at, length, beat))
            at += length
        return tuple(words)


def _syllable(at: Fraction, length: Fraction, beat: Fraction) -> str:
    if length >= beat and at % beat == 0:
        return "-".join(["ta"] + ["a"] * (int(length / beat) - 1))
    if length >= beat / 2:
        return "ti"
    return "ti" if at % (beat / 2) == 0 else "ri"


def rhythm_cards(notes: Sequence[Note], bars: dict[int, Bar]) -> list[Card]:
    """The rhythms of the upper voice of the first staff, the most frequent first; whole bars only, of what is written as it sounds."""
    found: dict[tuple[tuple[int, int], tuple[tuple[Fraction, bool], ...]], list[str]] = {}
    for index, bar in bars.items():
        if bar.length_quarters < 4.0 * bar.beats / bar.beat_type - 1e-6:
            continue
        values = _values([n for n in notes if n.bar_index == index and n.staff == 1 and not n.grace], bar)
        if values:
            found.setdefault(((bar.beats, bar.beat_type), values), []).append(bar.number)
    cards = [Card(values=values, bars=tuple(numbers), metre=metre) for (metre, values), numbers in found.items()]
    return sorted(cards, key=lambda c: -len(c.bars))[:MOST_CARDS]


def _values(notes: list[Note], bar: Bar) -> tuple[tuple[Fraction, bool], ...]:
    """Lengths one after the other; empty where two voices cross."""
    values: list[tuple[Fraction, bool]] = []
    at, end = Fraction(0), Fraction(bar.length_quarters).limit_denominator(96)
    voice = min((n.voice for n in notes), default="")
    starts = sorted({Fraction(n.onset_quarters).limit_denominator(96): n for n in reversed(notes) if n.voice == voice}.items())
    for onset, note in starts:
        if onset < at:
            return ()
        if onset > at:
            values.append((onset - at, True))
        length = Fraction(note.duration_quarters).limit_denominator(96)
        values.append((length, False))
        at = onset + length
    if at < end:
        values.append((end - at, True))
    return tuple(values)


def cards_as_musicxml(cards: Sequence[Card]) -> bytes:
    """The cards as strokes on one line, a bar to each, the syllables underneath."""
    made = []
    for card in cards:
        spoken = card.spoken
        notes = [
            DraftNote(nominal=length, stroke=not is_rest, lyrics=[(1, word, "single")] if word else [])
            for (length, is_rest), word in zip(card.values, spoken, strict=True)
        ]
        made.append(DraftBar(notes=notes, metre=(*card.metre, "")))
    made[0].fifths = 0
    return write_draft([DraftPart(name="Rhythms", bars=made, clef="percussion")], "Rhythms")
