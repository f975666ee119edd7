"""Spelled pitches on the line of fifths: transposing that keeps the spelling, and which accidentals a bar shows.

A pitch's place on the line is F -1, C 0, G 1, D 2 ... with 7 for each sharp (Temperley 2001); a key signature of ``fifths`` holds the
seven places from ``fifths - 1`` on.
"""

from __future__ import annotations

from dataclasses import dataclass

STEPS = "CDEFGAB"
_LINE = "FCGDAEB"
_SEMITONES = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}
#: More sharps or flats than this are read worse than the enharmonic key.
MOST_FIFTHS = 6


@dataclass(frozen=True, slots=True, kw_only=True)
class Interval:
    """How far to move: ``semitones`` for the sound, ``fifths`` on the line for the spelling."""

    semitones: int
    fifths: int

    @property
    def steps(self) -> int:
        """Diatonic steps, 7 to an octave."""
        return 4 * self.fifths + 7 * ((self.semitones - 7 * self.fifths) // 12)


def place(step: str, alter: int) -> int:
    """Place of a spelled pitch class on the line of fifths; C is 0."""
    return _LINE.index(step) - 1 + 7 * alter


def spelled(place_on_line: int) -> tuple[str, int]:
    """Step and alter at a place on the line of fifths."""
    return _LINE[(place_on_line + 1) % 7], (place_on_line + 1) // 7


def key_alters(fifths: int) -> dict[str, int]:
    """What a key signature does to each step: -1, 0 or 1 (beyond seven signs, further)."""
    return dict(spelled(p) for p in range(fifths - 1, fifths + 6))


def interval_for(semitones: int, fifths: int) -> Interval:
    """The interval of so many semitones from a key of ``fifths`` to the key with fewest signs (of two alike: the same kind of signs)."""
    raw = 7 * semitones
    reached = [f for f in range(-MOST_FIFTHS, MOST_FIFTHS + 1) if (f - fifths - raw) % 12 == 0]
    best = min(reached, key=lambda f: (abs(f), (f > 0) != (fifths > 0)))
    return Interval(semitones=semitones, fifths=best - fifths)


def moved(step: str, alter: int, octave: int, interval: Interval) -> tuple[str, int, int]:
    """A spelled pitch moved by an interval; what would need three signs is spelled anew."""
    new_step, new_alter = spelled(place(step, alter) + interval.fifths)
    midi = 12 * (octave + 1) + _SEMITONES[step] + alter + interval.semitones
    if abs(new_alter) > 2:
        new_step, new_alter = simplest(midi, 0)
    return new_step, new_alter, (midi - new_alter - _SEMITONES[new_step]) // 12 - 1


#: The seven names of a key begin one fifth below it: on the line of fifths its middle is its second degree.
MIDDLE_OF_KEY = 2


def simplest(midi: int, fifths: int) -> tuple[str, int]:
    """The spelling of a sounding pitch nearest to a key on the line of fifths."""
    middle = fifths + MIDDLE_OF_KEY
    choices = [p for p in range(middle - 8, middle + 9) if (7 * p - midi) % 12 == 0]
    return spelled(min(choices, key=lambda p: abs(p - middle)))


def pitch_name(midi: int, fifths: int) -> str:
    """A sounding pitch spelled in a key, as a plain name such as ``Eb4``."""
    step, alter = simplest(midi, fifths)
    octave = (midi - alter - _SEMITONES[step]) // 12 - 1
    return f"{step}{'#' * alter if alter > 0 else 'b' * -alter}{octave}"


_SYLLABLES = {"C": "do", "D": "re", "E": "mi", "F": "fa", "G": "sol", "A": "la", "B": "si"}
_ENDINGS = {"bb": "eses", "b": "es", "": "", "#": "is", "##": "isis"}


def syllable(step: str) -> str:
    """A step in the fixed system of syllables."""
    return _SYLLABLES[step]


def german_name(name: str) -> str:
    """``Eb`` to “Es”, ``B`` to “H”, ``Bb`` to “B”."""
    step, signs = name[0], name[1:]
    if step == "B":
        return {"": "H", "b": "B", "bb": "Heses", "#": "His", "##": "Hisis"}[signs]
    ending = _ENDINGS[signs]
    return step + (ending[1:] if step in "AE" and signs.startswith("b") else ending)
