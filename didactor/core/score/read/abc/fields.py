"""The fields of ABC that say how notes are to be read: key, metre, unit length, tempo."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from fractions import Fraction

from didactor.core.score.spelling import key_alters, place

_MODES = {"": 0, "maj": 0, "ion": 0, "m": -3, "min": -3, "aeo": -3, "mix": -1, "dor": -2, "phr": -4, "lyd": 1, "loc": -5}
_ACCIDENTALS = {"^^": 2, "^": 1, "=": 0, "_": -1, "__": -2}
_CLEFS = {
    "treble": "treble",
    "G": "treble",
    "bass": "bass",
    "F": "bass",
    "alto": "alto",
    "C": "alto",
    "tenor": "tenor",
    "perc": "percussion",
    "treble-8": "treble8",
    "none": "treble",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Key:
    """``alters`` of every step, the signature's and what the field adds; ``clef`` where it names one."""

    fifths: int = 0
    alters: dict[str, int] = field(default_factory=lambda: key_alters(0))
    clef: str | None = None
    octaves: int = 0
    transpose: int = 0


def read_key(text: str) -> Key | None:
    """``Em``, ``D mix``, ``A exp _b``, ``HP``, ``none``, ``clef=bass`` ...; None where it cannot be a key."""
    words = text.split("%")[0].strip()
    clef, octaves, transpose = read_clef(words)
    plain = re.sub(r"\b(clef|middle|octave|transpose|stafflines|m|t|style|score|sound|shift|map)=\S+", "", words)
    plain = " ".join(w for w in plain.split() if w not in _CLEFS or len(w) == 1)
    if not plain or plain.lower() == "none":
        return Key(clef=clef, octaves=octaves, transpose=transpose)
    if plain in ("HP", "Hp"):
        return Key(fifths=2, alters=key_alters(2), clef=clef)
    match = re.match(r"([A-G])([#b]?)\s*([A-Za-z]*)", plain)
    if match is None:
        return None
    mode = match[3].lower()
    rest = plain[match.end() :]
    if mode in ("exp", "explicit"):
        fifths = 0
    else:
        known = mode if mode in _MODES else mode[:3]
        if known not in _MODES:
            return None
        fifths = place(match[1], {"": 0, "#": 1, "b": -1}[match[2]]) + _MODES[known]
    alters = key_alters(max(-7, min(7, fifths)))
    for sign, letter in re.findall(r"(\^{1,2}|_{1,2}|=)([a-gA-G])", rest):
        alters[letter.upper()] = _ACCIDENTALS[sign]
    return Key(fifths=max(-7, min(7, fifths)), alters=alters, clef=clef, octaves=octaves, transpose=transpose)


def read_clef(text: str) -> tuple[str | None, int, int]:
    """The clef by our name, octaves to shift, and semitones from written to sounding, from a key or voice field."""
    match = re.search(r"clef=\"?([A-Za-z0-9+-]+)", text)
    name = match[1] if match else next((w for w in text.split() if w in _CLEFS and len(w) > 1), None)
    octave = re.search(r"\boctave=(-?\d)", text)
    transpose = re.search(r"\btranspose=(-?\d+)", text)
    known, octaves = None, int(octave[1]) if octave else 0
    if name is not None:
        plain = name.split("+")[0]
        known = _CLEFS.get(plain) or _CLEFS.get(plain.rstrip("12345"), "treble")
        # An 8 at the clef: what is written sounds an octave away.
        octaves += {"-8": -1, "+8": 1}.get(name[-2:], 0)
    return known, octaves, int(transpose[1]) if transpose else 0


def read_metre(text: str) -> tuple[int, int, str] | None:
    """Beats, beat type and MusicXML's symbol; None for a free metre or one that is not understood."""
    plain = text.split("%")[0].strip()
    if plain == "C":
        return 4, 4, "common"
    if plain == "C|":
        return 2, 2, "cut"
    match = re.fullmatch(r"\(?([\d+ ]+)\)?\s*/\s*(\d+)", plain)
    if match is None or int(match[2]) not in (1, 2, 4, 8, 16, 32):
        return None
    beats = sum(int(b) for b in match[1].replace(" ", "+").split("+") if b)
    return (beats, int(match[2]), "") if 0 < beats <= 64 else None


def default_unit(metre: tuple[int, int, str] | None) -> Fraction:
    """The unit length, in whole notes, where no L: field gives it."""
    if metre is None:
        return Fraction(1, 8)
    return Fraction(1, 16) if Fraction(metre[0], metre[1]) < Fraction(3, 4) else Fraction(1, 8)


def read_unit(text: str) -> Fraction | None:
    match = re.match(r"\s*(\d+)\s*/\s*(\d+)", text)
    return Fraction(int(match[1]), int(match[2])) if match and int(match[2]) and int(match[1]) else None


def read_tempo(text: str, unit: Fraction) -> float | None:
    """Quarters per minute from ``1/4=90``, ``"Lively" 3/8=60`` or a bare number of unit lengths."""
    plain = re.sub(r'"[^"]*"', "", text).split("%")[0].strip()
    match = re.search(r"((?:\d+/\d+\s*)+)=\s*(\d+(?:\.\d+)?)", plain)
    if match:
        return float(sum(Fraction(f) for f in match[1].split()) * 4 * Fraction(match[2]))
    bare = re.fullmatch(r"(?:C\d*\s*=\s*)?(\d+)", plain)
    return float(int(bare[1]) * unit * 4) if bare else None
