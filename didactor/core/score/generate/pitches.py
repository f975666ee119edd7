"""The pitches of scales and chords, spelled: every step of a scale has a letter of its own."""

from __future__ import annotations

from dataclasses import dataclass

from didactor.core.score.spelling import STEPS, pitch_name, place
from didactor.core.units import name_to_pitch, pitch_to_midi, pitch_to_name
from didactor.core.words import _

#: Semitones of the seven steps above the tonic, up and down; ``fifths`` of the key signature against the major key on the same tonic.
SCALES: dict[str, tuple[str, tuple[int, ...], tuple[int, ...], int]] = {
    "major": (_("Major"), (0, 2, 4, 5, 7, 9, 11), (0, 2, 4, 5, 7, 9, 11), 0),
    "natural_minor": (_("Natural minor"), (0, 2, 3, 5, 7, 8, 10), (0, 2, 3, 5, 7, 8, 10), -3),
    "harmonic_minor": (_("Harmonic minor"), (0, 2, 3, 5, 7, 8, 11), (0, 2, 3, 5, 7, 8, 11), -3),
    "melodic_minor": (_("Melodic minor"), (0, 2, 3, 5, 7, 9, 11), (0, 2, 3, 5, 7, 8, 10), -3),
    "dorian": (_("Dorian"), (0, 2, 3, 5, 7, 9, 10), (0, 2, 3, 5, 7, 9, 10), -2),
    "phrygian": (_("Phrygian"), (0, 1, 3, 5, 7, 8, 10), (0, 1, 3, 5, 7, 8, 10), -4),
    "lydian": (_("Lydian"), (0, 2, 4, 6, 7, 9, 11), (0, 2, 4, 6, 7, 9, 11), 1),
    "mixolydian": (_("Mixolydian"), (0, 2, 4, 5, 7, 9, 10), (0, 2, 4, 5, 7, 9, 10), -1),
    "locrian": (_("Locrian"), (0, 1, 3, 5, 6, 8, 10), (0, 1, 3, 5, 6, 8, 10), -5),
    "major_pentatonic": (_("Major pentatonic"), (0, 2, 4, 7, 9), (0, 2, 4, 7, 9), 0),
    "minor_pentatonic": (_("Minor pentatonic"), (0, 3, 5, 7, 10), (0, 3, 5, 7, 10), -3),
    "blues": (_("Blues"), (0, 3, 5, 6, 7, 10), (0, 3, 5, 6, 7, 10), -3),
    "chromatic": (_("Chromatic"), tuple(range(12)), tuple(range(12)), 0),
}
#: Which letters the notes of scales with other than seven steps have, counted from the tonic's.
_LETTERS: dict[str, tuple[int, ...]] = {
    "major_pentatonic": (0, 1, 2, 4, 5),
    "minor_pentatonic": (0, 2, 3, 4, 6),
    "blues": (0, 2, 3, 4, 4, 6),
}

#: Letters and semitones above the root.
CHORDS: dict[str, tuple[str, tuple[int, ...], tuple[int, ...], int]] = {
    "major": (_("Major"), (0, 2, 4), (0, 4, 7), 0),
    "minor": (_("Minor"), (0, 2, 4), (0, 3, 7), -3),
    "dominant": (_("Dominant seventh"), (0, 2, 4, 6), (0, 4, 7, 10), 0),
    "diminished": (_("Diminished seventh"), (0, 2, 4, 6), (0, 3, 6, 9), -3),
    "augmented": (_("Augmented"), (0, 2, 4), (0, 4, 8), 0),
    "major_seventh": (_("Major seventh"), (0, 2, 4, 6), (0, 4, 7, 11), 0),
    "minor_seventh": (_("Minor seventh"), (0, 2, 4, 6), (0, 3, 7, 10), -3),
}
TONICS = ("C", "Db", "D", "Eb", "E", "F", "F#", "Gb", "G", "Ab", "A", "Bb", "B", "C#", "G#")


@dataclass(frozen=True, slots=True, kw_only=True)
class Ladder:
    """Names of the notes above a tonic, degree by degree, for going up and for coming down."""

    up: tuple[str, ...]
    down: tuple[str, ...]
    fifths: int


def key_of(tonic: str, offset: int) -> int:
    """Fifths of the key signature ``offset`` fifths from the major key on a tonic, within seven signs."""
    step, alter, _ = name_to_pitch(f"{tonic}4")
    fifths = place(step, alter) + offset
    return max(-7, min(7, fifths))


def near_tonic(tonic: str, middle: int = 64) -> str:
    """The tonic with the octave that puts it nearest to a MIDI number."""
    octaves = [f"{tonic}{o}" for o in range(1, 7)]
    return min(octaves, key=lambda name: abs(pitch_to_midi(*name_to_pitch(name)) - middle))


def scale_ladder(kind: str, first: str, octaves: int) -> Ladder:
    """A scale over so many octaves, its upper tonic included."""
    _, up, down, offset = SCALES[kind]
    if kind == "chromatic":
        root = pitch_to_midi(*name_to_pitch(first))
        midis = range(root, root + 12 * octaves + 1)
        # Sharps going up, flats coming down, and no signature: every note shows its own sign; the tonic keeps its name.
        up_names, down_names = (tuple(_chromatic_name(m, first, fifths) for m in midis) for fifths in (3, -2))
        return Ladder(up=up_names, down=down_names, fifths=0)
    letters = _LETTERS.get(kind, tuple(range(7)))
    return Ladder(
        up=_names(first, letters, up, octaves),
        down=_names(first, letters, down, octaves),
        fifths=key_of(first.rstrip("0123456789"), offset),
    )


def _chromatic_name(midi: int, first: str, fifths: int) -> str:
    root = pitch_to_midi(*name_to_pitch(first))
    if (midi - root) % 12:
        return pitch_name(midi, fifths)
    step, alter, octave = name_to_pitch(first)
    return pitch_to_name(step, alter, octave + (midi - root) // 12)


def chord_ladder(kind: str, first: str, octaves: int) -> Ladder:
    """A broken chord over so many octaves, its upper root included."""
    _, letters, semitones, offset = CHORDS[kind]
    names = _names(first, letters, semitones, octaves)
    return Ladder(up=names, down=names, fifths=key_of(first.rstrip("0123456789"), offset))


def _names(first: str, letters: tuple[int, ...], semitones: tuple[int, ...], octaves: int) -> tuple[str, ...]:
    step, alter, octave = name_to_pitch(first)
    root, base = pitch_to_midi(step, alter, octave), STEPS.index(step)
    names = []
    for number in range(octaves * len(letters) + 1):
        turn, degree = divmod(number, len(letters))
        position = base + letters[degree] + 7 * turn
        letter, at = STEPS[position % 7], octave + position // 7
        midi = root + semitones[degree] + 12 * turn
        names.append(pitch_to_name(letter, midi - pitch_to_midi(letter, 0, at), at))
    return tuple(names)
