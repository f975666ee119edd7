"""How a note is fingered: valves, slide, recorder holes, keys, strings in first position, frets; and shapes of chords on frets.

Brass is computed: a player takes the partial of the open tube that lies nearest above the note and lengthens the tube by the
semitones between (the seventh and eleventh partials are out of tune and left out). Recorders follow the common baroque fingering.
Bowed strings stay in first position; what lies beyond it has no picture, since a shift is the teacher's choice.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from dataclasses import dataclass

from didactor.core.instruments import Instrument
from didactor.core.score.study.woodwinds import charts, in_words
from didactor.core.units import name_to_midi

#: Semitones that the tube is lengthened by, and the valves that are pressed for it.
_VALVES = ((), (2,), (1,), (1, 2), (2, 3), (1, 3), (1, 2, 3))
#: Semitones of the usable partials above the fundamental.
_PARTIALS = (12, 19, 24, 28, 31, 36, 38, 40, 43)
#: Baroque fingering from the lowest note up: thumb, then holes 1 to 7; 2 covered, 1 half covered, 0 open.
_HOLES = [
    "22222222",
    "22222221",
    "22222220",
    "22222210",
    "22222200",
    "22222022",
    "22220222",
    "22220000",
    "22202210",
    "22200000",
    "22022000",
    "22020000",
    "20200000",
    "02200000",
    "00200000",
    "00222220",
    "12222200",
    "12222020",
    "12220200",
    "12220000",
    "12202000",
    "12200000",
    "12202220",
    "12202200",
    "12002200",
]
#: Semitones above the open string to the finger in first position, by the interval between the strings.
_FINGERS_FIFTHS = ("0", "1↓", "1", "2↓", "2", "3", "3↑", "4")
_FINGERS_CELLO = ("0", "1↓", "1", "2", "3", "4", "4↑")
_FINGERS_FOURTHS = ("0", "1↓", "1", "2", "4")
_LOW_STRINGS = ("cello",)
#: Chord shapes: how far the fingers of one hand reach; and how far up the neck a shape is looked for, first where beginners play.
_SPAN, _HIGHEST_FRETS, _MOST_FINGERS = 3, (4, 7), 4


@dataclass(frozen=True, slots=True, kw_only=True)
class Fingering:
    """One note's fingering. ``words`` say it all; ``covered`` is for pictures: per valve or hole 0, 1 (half) or 2. Of an instrument with
    keys: register key, thumb, three fingers of either hand (-1: it has none), and the short names of further ``keys``.
    """

    kind: str
    words: str
    covered: tuple[int, ...] = ()
    keys: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class ChordShape:
    """A chord on the frets, from the lowest string as written in the tuning; None is a string that does not sound."""

    name: str
    strings: tuple[str, ...]
    frets: tuple[int | None, ...]


def fingering_of(instrument: Instrument, written_midi: int, sounding_midi: int) -> Fingering | None:
    """How a note is fingered; None where no picture is known for it or for the instrument."""
    kind, _, tuning = instrument.fingering.partition(" ")
    if kind == "valves":
        short = _lengthened_by(written_midi - name_to_midi(tuning))
        return None if short is None else _valves(_VALVES[short])
    if kind == "slide":
        short = _lengthened_by(written_midi - name_to_midi(tuning))
        return None if short is None else Fingering(kind="slide", words=str(short + 1))
    if kind == "recorder":
        lowest = 60 if tuning == "C" else 65
        step = written_midi - lowest
        return _holes(_HOLES[step]) if 0 <= step < len(_HOLES) else None
    if kind == "keys":
        return _keyed(charts()[tuning].get(written_midi), tuning)
    if kind == "strings":
        return _bowed(instrument, written_midi, tuning.split())
    if kind == "frets":
        return _fretted(written_midi if instrument.transposition else sounding_midi, tuning.split())
    return None


def _lengthened_by(semitones: int) -> int | None:
    """How much longer than open the tube must be for a note so far above its fundamental."""
    away = [partial - semitones for partial in _PARTIALS if 0 <= partial - semitones < len(_VALVES)]
    return min(away, default=None)


def _valves(pressed: tuple[int, ...]) -> Fingering:
    words = " ".join(map(str, pressed)) or "open"
    return Fingering(kind="valves", words=words, covered=tuple(2 if v in pressed else 0 for v in (1, 2, 3)))


def _holes(pattern: str) -> Fingering:
    names = ("thumb", *"1234567")
    covered = tuple(int(c) for c in pattern)
    words = " ".join(("half " if c == 1 else "") + name for name, c in zip(names, covered, strict=True) if c)
    return Fingering(kind="recorder", words=words, covered=covered)


def _keyed(fingering: str | None, kind: str) -> Fingering | None:
    if fingering is None:
        return None
    left, _, rest = fingering.partition("|")
    right, *keys = rest.split(" ")
    register = -1 if kind == "flute" else 2 * ("R" in left)
    thumb = -1 if kind == "sax" else 2 * ("T" in left)
    fingers = (2 * (finger in hand) for hand in (left, right) for finger in "123")
    return Fingering(kind="keys", words=in_words(fingering, kind), covered=(register, thumb, *fingers), keys=tuple(k for k in keys if k))


def _bowed(instrument: Instrument, midi: int, tuning: list[str]) -> Fingering | None:
    pitches = [name_to_midi(t) for t in tuning]
    fingers = _FINGERS_FOURTHS if pitches[1] - pitches[0] == 5 else _FINGERS_CELLO if instrument.slug in _LOW_STRINGS else _FINGERS_FIFTHS
    for pitch, name in zip(reversed(pitches), reversed(tuning), strict=True):
        if pitch <= midi:
            step = midi - pitch
            return Fingering(kind="strings", words=f"{name[:-1]} {fingers[step]}") if step < len(fingers) else None
    return None


def _fretted(midi: int, tuning: list[str]) -> Fingering | None:
    names = _string_names(tuning)
    reachable = [(midi - name_to_midi(t), -i) for i, t in enumerate(tuning) if 0 <= midi - name_to_midi(t) <= 12]
    if not reachable:
        return None
    fret, at = min(reachable)
    return Fingering(kind="frets", words=f"{names[-at]} {fret}")


def _string_names(tuning: list[str]) -> tuple[str, ...]:
    """Strings by their letter; of two alike the higher one is small, as guitarists write it."""
    letters = [t[:-1] for t in tuning]
    return tuple(
        letter.lower() if letter in letters[:i] and name_to_midi(tuning[i]) > name_to_midi(tuning[letters.index(letter)]) else letter
        for i, letter in enumerate(letters)
    )


def chord_shape(instrument: Instrument, name: str, pitch_classes: Iterable[int]) -> ChordShape | None:
    """The easiest shape of a chord in the lowest frets: all its notes (a chord of four may do without its fifth), the root lowest, few
    fingers, no silent string between.

    None where the instrument has no frets or no hand reaches the chord there.

    Args:
        pitch_classes: the root first; a note in the bass that the chord lacks comes last.
    """
    kind, _, rest = instrument.fingering.partition(" ")
    classes = tuple(pitch_classes)
    if kind != "frets" or not classes:
        return None
    tuning = rest.split()
    open_strings = [name_to_midi(t) for t in tuning]
    if len(tuning) == 5 and open_strings[0] > open_strings[-2]:
        tuning, open_strings = tuning[1:], open_strings[1:]  # a banjo's short string is no part of the shape
    for highest in _HIGHEST_FRETS:
        choices: list[list[int | None]] = [
            [fret for fret in range(highest + 1) if (pitch + fret) % 12 in classes] + [None] for pitch in open_strings
        ]
        best = min(
            (frets for frets in itertools.product(*choices) if _is_playable(frets) and _has_all(frets, open_strings, classes)),
            key=lambda frets: _trouble(frets, open_strings, classes),
            default=None,
        )
        if best is not None:
            return ChordShape(name=name, strings=_string_names(tuning), frets=best)
    return None


def _is_playable(frets: tuple[int | None, ...]) -> bool:
    pressed = [f for f in frets if f]
    sounding = [f is not None for f in frets]
    first = sounding.index(True) if any(sounding) else len(frets)
    # Only strings below the lowest sounding one may be silent: a strum crosses the rest.
    if not all(sounding[first:]):
        return False
    return not pressed or (max(pressed) - min(pressed) <= _SPAN and _fingers(frets) <= _MOST_FINGERS)


def _fingers(frets: tuple[int | None, ...]) -> int:
    """Fingers needed; the first may lie across all strings at the lowest fret when no string is open."""
    pressed = [f for f in frets if f]
    if pressed and all(f is None or f > 0 for f in frets):
        return 1 + sum(f > min(pressed) for f in pressed)
    return len(pressed)


def _has_all(frets: tuple[int | None, ...], open_strings: list[int], classes: tuple[int, ...]) -> bool:
    sounding = {(p + f) % 12 for p, f in zip(open_strings, frets, strict=True) if f is not None}
    return sounding == set(classes) or (len(classes) == 4 and sounding == {*classes[:2], classes[3]})


def _trouble(frets: tuple[int | None, ...], open_strings: list[int], classes: tuple[int, ...]) -> float:
    """What makes a shape hard or poor: another note in the bass, silent strings, fingers, a bar, high frets, no fifth."""
    sounding = [p + f for p, f in zip(open_strings, frets, strict=True) if f is not None]
    bar = bool([f for f in frets if f]) and all(f is None or f > 0 for f in frets)
    # Four strings sound together, whatever lies lowest; on six the root does.
    inverted, silent = (3.0 * (min(sounding) % 12 != classes[0]), 1.1) if len(frets) > 4 else (0.0, 6.0)
    without = 4.0 * (len({m % 12 for m in sounding}) < len(classes))
    return inverted + without + silent * frets.count(None) + 1.0 * _fingers(frets) + 2.5 * bar + 0.3 * sum(f or 0 for f in frets)
