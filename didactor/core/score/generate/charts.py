"""Strumming charts: chords in sections, strokes laid on every bar."""

from __future__ import annotations

import re
from fractions import Fraction

from didactor.core.errors import PassageError
from didactor.core.score.chords import chord_pitch_classes
from didactor.core.score.generate.layout import value_of
from didactor.core.words import _, worded

#: Strokes for a bar of four, by name. A small ``r`` before a value is a rest.
BARS_OF_STROKES = {
    "q q q q": _("Four even strokes"),
    "h h": _("Two long strokes"),
    "w": _("One stroke a chord"),
    "q e e q e e": _("Long, short-short"),
    "q q e e q": _("The third beat divided"),
    "e e e e e e e e": _("Eight even strokes"),
    "q rq q rq": _("On one and three"),
    "rq q rq q": _("On two and four"),
}
MOST_BARS = 400


def progression(sections: str, order: str) -> list[str]:
    """Chords of all bars in order; “|” and “.” are passed over (a dot repeats the chord before).

    Raises:
        PassageError: a chord that is not known, a section that is not there, or no chord at all.
    """
    named: dict[str, list[str]] = {}
    for number, line in enumerate(filter(None, (raw.strip() for raw in sections.splitlines())), start=1):
        match = re.match(r"^(\w+)\s*:\s*(.*)$", line)
        name, chords = (match[1], match[2]) if match else (str(number), line)
        named.setdefault(name.lower(), []).extend(_chords(chords))
    wanted = [w for w in re.split(r"[\s,]+", order.strip()) if w] or list(named)
    missing = next((w for w in wanted if w.lower() not in named), None)
    if missing:
        raise PassageError(
            "exercise.section",
            worded("The order names “{missing}”, but there is no such section. Write it like “V: C G Am F”.", missing=missing),
        )
    found = [chord for name in wanted for chord in named[name.lower()]]
    if not found:
        raise PassageError("exercise.no_chords", worded("Write at least one chord, like “V: C G Am F”."))
    if len(found) > MOST_BARS:
        raise PassageError("exercise.too_long", worded("The chart comes to more than {most_bars} bars.", most_bars=MOST_BARS))
    return found


def _chords(text: str) -> list[str]:
    found: list[str] = []
    for word in text.replace("|", " ").split():
        if word == ".":
            if not found:
                raise PassageError("exercise.chord", worded("A dot repeats the chord before it; here there is none."))
            found.append(found[-1])
            continue
        try:
            chord_pitch_classes(word)
        except ValueError as error:
            raise PassageError(
                "exercise.chord", worded("“{word}” is no chord that is known here. Write chords like C, Am, F#m7, C/E.", word=word)
            ) from error
        found.append(word)
    return found


def chart_text(chords: list[str], strokes: str, bar: Fraction) -> str:
    """A bar of strokes under every chord.

    Raises:
        PassageError: strokes that are not understood, or do not fill the bar.
    """
    tokens = strokes.split()
    try:
        length = sum((value_of(t.lstrip("r")) for t in tokens), Fraction(0))
    except (KeyError, IndexError) as error:
        raise PassageError("exercise.strokes", worded("Write the strokes as values, like “q e e q q” or “rq q rq q”.")) from error
    if length != bar:
        raise PassageError(
            "exercise.strokes",
            worded("These strokes make {length:g} quarters, but the bar has {bar:g}.", length=float(length), bar=float(bar)),
        )
    result = []
    for chord in chords:
        first = next((i for i, t in enumerate(tokens) if not t.startswith("r")), 0)
        result.append(
            " ".join(f"r:{t[1:]}" if t.startswith("r") else f"x:{t}" + (f"@{chord}" if i == first else "") for i, t in enumerate(tokens))
        )
    return " | ".join(result)
