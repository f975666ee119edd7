"""The order in which the notes of a scale or chord are played, and the rhythm laid on it."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from didactor.core.score.generate.layout import value_of
from didactor.core.score.generate.pitches import Ladder
from didactor.core.words import _

DIRECTIONS = {"up_down": _("Up and down"), "up": _("Up"), "down": _("Down"), "down_up": _("Down and up")}

#: Figures over a ladder: offsets in degrees, played from every degree on.
FIGURES: dict[str, tuple[str, tuple[int, ...]]] = {
    "straight": (_("One after the other"), (0,)),
    "thirds": (_("In thirds"), (0, 2)),
    "fourths": (_("In fourths"), (0, 3)),
    "sixths": (_("In sixths"), (0, 5)),
    "threes": (_("Groups of three"), (0, 1, 2)),
    "fours": (_("Groups of four"), (0, 1, 2, 3)),
    "rocking": (_("Rocking: low, high, middle, high"), (0, 2, 1, 2)),
}

#: Those that make sense over the notes of a chord.
CHORD_FIGURES = ("straight", "threes", "fours", "rocking")

#: Rhythms, by name; each is repeated over the notes.
RHYTHMS: dict[str, tuple[str, str]] = {
    "quarters": (_("Quarters"), "q"),
    "halves": (_("Halves"), "h"),
    "eighths": (_("Eighths"), "e"),
    "sixteenths": (_("Sixteenths"), "s"),
    "long_short_short": (_("Quarter and two eighths"), "q e e"),
    "short_short_long": (_("Two eighths and quarter"), "e e q"),
    "dotted": (_("Dotted eighth and sixteenth"), "e. s"),
    "snap": (_("Sixteenth and dotted eighth"), "s e."),
    "triplets": (_("Triplets"), "e3 e3 e3"),
    "lilt": (_("Dotted quarter and eighth"), "q. e"),
    "gallop": (_("Eighth and two sixteenths"), "e s s"),
    "reverse_gallop": (_("Two sixteenths and eighth"), "s s e"),
    "syncope": (_("Eighth, quarter, eighth"), "e q e"),
}


def travel(ladder: Ladder, direction: str, figure: str) -> list[str]:
    """Names in the order of playing; turning points sound once, and the last note is the one the way leads to."""
    offsets = FIGURES[figure][1]
    up, down = _climb(ladder.up, offsets), _climb(tuple(reversed(ladder.down)), offsets)
    return {
        "up": up,
        "down": down,
        "up_down": up + (down[1:] if down and up and down[0] == up[-1] else down),
        "down_up": down + (up[1:] if down and up and up[0] == down[-1] else up),
    }[direction]


def _climb(names: Sequence[str], offsets: tuple[int, ...]) -> list[str]:
    """A figure from every degree whose notes all lie on the ladder; then its end, where the figure does not reach it."""
    last = len(names) - 1
    found = [names[degree + offset] for degree in range(last - max(offsets) + 1) for offset in offsets]
    if found[-1] != names[last]:
        found.append(names[last])
    return found


def with_rhythm(names: Sequence[str], rhythm: str, factor: Fraction = Fraction(1)) -> list[tuple[str, Fraction, str]]:
    """Each name with its length; the pattern begins anew as often as needed. ``factor`` 1/2 halves all values."""
    values = [value_of(token) * factor for token in rhythm.split()]
    return [(name, values[i % len(values)], "") for i, name in enumerate(names)]
