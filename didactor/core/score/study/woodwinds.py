"""Fingerings of flutes, clarinets and saxophones, by the written note.

A fingering is written as players say it: what the left hand does, a stroke, what the right hand does, then the keys of the little
fingers and of the side. ``T`` is the thumb (key or hole), ``R`` the register or octave key. The upper registers are the lower ones
again: saxophones and flutes at the octave, clarinets at the twelfth. Common fingerings of beginners' charts; there are others.
"""

from __future__ import annotations

from functools import cache

from didactor.core.units import name_to_midi
from didactor.core.words import _, worded

#: Keys by their short name under a note, and in words.
KEYS = {
    "B♭": _("low B♭ key, left little finger"),
    "B": _("low B key, left little finger"),
    "C♯": _("C♯ key, left little finger"),
    "G♯": _("G♯ key, left little finger"),
    "C": _("low C key, right little finger"),
    "lC♯": _("low C♯ key, right little finger"),
    "E♭": _("E♭ key, right little finger"),
    "sB♭": _("side B♭ key, right hand"),
    "pD": _("palm D key, left hand"),
    "pE♭": _("palm E♭ key, left hand"),
    "sE": _("side E key, right hand"),
    "pF": _("palm F key, left hand"),
    "E": _("E key, little finger"),
    "F": _("F key, little finger"),
    "F♯": _("F♯ key, little finger"),
    "A♭": _("A♭ key, right little finger"),
    "sE♭": _("side E♭ key, right hand"),
    "tG♯": _("throat G♯ key, left first finger"),
    "tA": _("throat A key, left first finger"),
}
_SAXOPHONE = {
    "Bb3": "123|123 B♭", "B3": "123|123 B", "C4": "123|123 C", "C#4": "123|123 C♯", "D4": "123|123", "Eb4": "123|123 E♭",
    "E4": "123|12", "F4": "123|1", "F#4": "123|2", "G4": "123|", "G#4": "123| G♯", "A4": "12|", "Bb4": "12| sB♭", "B4": "1|",
    "C5": "2|", "C#5": "|",
}  # fmt: skip
_PALM = {"D6": "R| pD", "Eb6": "R| pD pE♭", "E6": "R| pD pE♭ sE", "F6": "R| pD pE♭ sE pF"}
_FLUTE = {
    "C4": "T123|123 C", "C#4": "T123|123 lC♯", "D4": "T123|123", "Eb4": "T123|123 E♭", "E4": "T123|12 E♭", "F4": "T123|1 E♭",
    "F#4": "T123|3 E♭", "G4": "T123| E♭", "G#4": "T123| G♯ E♭", "A4": "T12| E♭", "Bb4": "T1|1 E♭", "B4": "T1| E♭", "C5": "1| E♭",
    "C#5": "| E♭", "D5": "T23|123", "Eb5": "T23|123 E♭",
}  # fmt: skip
_FLUTE_THIRD = {
    "D6": "T23| E♭", "Eb6": "T123|123 G♯ E♭", "E6": "T12|12 E♭", "F6": "T13|1 E♭", "F#6": "T13|3 E♭", "G6": "123| E♭",
    "G#6": "23| G♯ E♭", "A6": "2|1 E♭",
}  # fmt: skip
_CHALUMEAU = {
    "E3": "T123|123 E", "F3": "T123|123 F", "F#3": "T123|123 F♯", "G3": "T123|123", "G#3": "T123|123 A♭", "A3": "T123|12",
    "Bb3": "T123|1", "B3": "T123|2", "C4": "T123|", "C#4": "T123| C♯", "D4": "T12|", "Eb4": "T12| sE♭", "E4": "T1|", "F4": "T|",
}  # fmt: skip
_THROAT = {"F#4": "1|", "G4": "|", "G#4": "| tG♯", "A4": "| tA", "Bb4": "R| tA"}


@cache
def charts() -> dict[str, dict[int, str]]:
    """By kind of instrument: written MIDI number to the fingering as it is written above."""
    saxophone = _by_number(_SAXOPHONE) | {
        midi + 12: f"R{fingering}" for midi, fingering in _by_number(_SAXOPHONE).items() if midi >= name_to_midi("D4")
    }
    flute = _by_number(_FLUTE)
    flute |= {midi + 12: flute[midi] for midi in range(name_to_midi("E4"), name_to_midi("C#5") + 1)} | _by_number(_FLUTE_THIRD)
    chalumeau = _by_number(_CHALUMEAU)
    clarinet = chalumeau | _by_number(_THROAT) | {midi + 19: f"R{fingering}" for midi, fingering in chalumeau.items()}
    return {"sax": saxophone | _by_number(_PALM), "flute": flute, "clarinet": clarinet}


def _by_number(chart: dict[str, str]) -> dict[int, str]:
    return {name_to_midi(name): fingering for name, fingering in chart.items()}


def in_words(fingering: str, kind: str) -> str:
    """“thumb 1 2 3 | 1 2 and the E♭ key, right little finger”."""
    left, _, rest = fingering.partition("|")
    right, *keys = rest.split(" ")
    names = {"R": worded("register key") if kind == "clarinet" else worded("octave key"), "T": worded("thumb")}
    hands = f"{' '.join(names.get(c, c) for c in left) or worded('none')} | {' '.join(right) or worded('none')}"
    open_ = not left and not right
    said = [KEYS[key] for key in keys if key]
    said_hands = worded("all open") if open_ else hands
    return worded("{hands} and the {keys}", hands=said_hands, keys=worded(" and the ").join(said)) if said else said_hands
