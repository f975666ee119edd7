"""The written score as values. Score time is in quarters, counted from the start of its bar.

Pitch has both forms: spelled (``step``, ``alter``, ``octave``, as written) for names, and ``sounding_midi`` (after
transposition) for comparison with sound.
"""

from __future__ import annotations

from dataclasses import dataclass

from didactor.core.errors import Problem
from didactor.core.units import pitch_to_name


@dataclass(frozen=True, slots=True, kw_only=True)
class Note:
    """One written notehead. Rests are not notes: they are what remains of a bar."""

    id: str
    bar_index: int
    onset_quarters: float
    duration_quarters: float
    step: str
    alter: float
    octave: int
    sounding_midi: int
    staff: int = 1
    voice: str = "1"
    tie_start: bool = False
    tie_stop: bool = False
    grace: bool = False
    articulations: tuple[str, ...] = ()
    slur_start: bool = False
    slur_stop: bool = False
    dynamics: str | None = None
    unpitched: bool = False
    fingering: str = ""

    @property
    def written_pitch(self) -> str:
        return pitch_to_name(self.step, self.alter, self.octave)


@dataclass(frozen=True, slots=True, kw_only=True)
class Bar:
    """One bar of a part. ``number`` is what is printed; the anacrusis is ``0``."""

    id: str
    index: int
    number: str
    length_quarters: float
    beats: int
    beat_type: int
    fifths: int
    repeat_start: bool = False
    repeat_end: bool = False
    repeat_times: int = 2
    endings: tuple[int, ...] = ()
    jump: str | None = None
    marks: tuple[str, ...] = ()
    rehearsal: str = ""
    tempo_qpm: float | None = None

    @property
    def beat_quarters(self) -> float:
        """The metrical beat: a dotted quarter in 6/8, 9/8 and 12/8, else the denominator's value."""
        if self.beat_type == 8 and self.beats % 3 == 0 and self.beats > 3:
            return 1.5
        return 4.0 / self.beat_type


@dataclass(frozen=True, slots=True, kw_only=True)
class ChordSymbol:
    """A chord named above the staff, in force until the next. ``pitch_classes`` sound (0 is C), the root first."""

    bar_index: int
    onset_quarters: float
    text: str
    pitch_classes: tuple[int, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Words:
    """Words over the staff, as printed: “dolce”, “poco rit.”."""

    bar_index: int
    onset_quarters: float
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Hairpin:
    """A growing or fading stretch; both ends as (bar index, quarters in the bar)."""

    growing: bool
    begin: tuple[int, float]
    end: tuple[int, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """One instrument's line; ``transposition`` is sounding minus written, in semitones; ``clef`` the first staff's first, by our name."""

    index: int
    name: str
    instrument: str
    transposition: int
    staves: int
    bars: tuple[Bar, ...]
    notes: tuple[Note, ...]
    chords: tuple[ChordSymbol, ...] = ()
    hairpins: tuple[Hairpin, ...] = ()
    words: tuple[Words, ...] = ()
    clef: str = "treble"


@dataclass(frozen=True, slots=True, kw_only=True)
class Score:
    """What was read from one file, with the problems met on the way."""

    title: str
    composer: str
    parts: tuple[Part, ...]
    problems: tuple[Problem, ...] = ()
