"""What can be made, each kind with its choices; ``make`` turns one into notation."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import asdict, dataclass, fields
from fractions import Fraction
from typing import Any, ClassVar, Protocol

from didactor.core.errors import PassageError
from didactor.core.score.generate.charts import BARS_OF_STROKES, chart_text, progression
from didactor.core.score.generate.layout import bar_length, lay_out
from didactor.core.score.generate.patterns import CHORD_FIGURES, DIRECTIONS, FIGURES, RHYTHMS, travel, with_rhythm
from didactor.core.score.generate.pitches import CHORDS, SCALES, TONICS, Ladder, chord_ladder, near_tonic, scale_ladder
from didactor.core.score.generate.rhythm_lines import rhythm_text
from didactor.core.score.generate.sight_reading import LEVELS, sight_reading
from didactor.core.score.generate.two_hands import two_hands
from didactor.core.score.generate.variation import notes_that_take, vary
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.core.words import _, counted, note_name, worded

METRES = {"4/4": (4, 4), "3/4": (3, 4), "2/4": (2, 4), "6/8": (6, 8), "2/2": (2, 2), "9/8": (9, 8), "5/4": (5, 4)}


class Exercise(Protocol):
    """Choices as fields with plain values; ``kind`` names them in the database."""

    kind: ClassVar[str]

    @property
    def title(self) -> str: ...
    def line(self) -> Line: ...


def _choose(value: Any, allowed: Any, what: str) -> None:
    if value not in allowed:
        raise PassageError(
            "exercise.choice",
            worded(
                "{what}: “{value}” cannot be chosen. Choose one of: {allowed}.",
                what=what,
                value=value,
                allowed=", ".join(map(str, allowed)),
            ),
        )


def _within(value: int, low: int, high: int, what: str) -> None:
    if not low <= value <= high:
        raise PassageError("exercise.choice", worded("{what} must lie between {low} and {high}.", what=what, low=low, high=high))


def _check_rhythm(rhythm: str) -> None:
    """Raises ``PassageError`` for what is neither a rhythm with a name nor values."""
    tokens = rhythm.split()
    if rhythm in RHYTHMS:
        return
    if not 1 <= len(tokens) <= 32 or not all(re.fullmatch(r"[whqest](\.|3)?", token) for token in tokens):
        raise PassageError("exercise.rhythm", worded("“{rhythm}” is no rhythm. Write values, like “q. e e” or “e3 e3 e3”.", rhythm=rhythm))


@dataclass(frozen=True, slots=True, kw_only=True)
class _OnALadder:
    """What scales and arpeggios have in common. ``rhythm`` is one of ``RHYTHMS`` or values such as ``"q. e e"``; ``halved``: again at
    once in halved values.
    """

    tonic: str = "C"
    mode: str = "major"
    octaves: int = 1
    direction: str = "up_down"
    figure: str = "straight"
    rhythm: str = "quarters"
    metre: str = "4/4"
    halved: bool = False

    def _check(self, modes: Mapping[str, Any], figures: Collection[str]) -> None:
        _choose(self.tonic, TONICS, worded("Key note"))
        _choose(self.mode, modes, worded("Mode"))
        _choose(self.direction, DIRECTIONS, worded("Direction"))
        _choose(self.figure, figures, worded("Figure"))
        _check_rhythm(self.rhythm)
        _choose(self.metre, METRES, worded("Metre"))
        _within(self.octaves, 1, 3, worded("The number of octaves"))

    def _written(self, ladder: Ladder, name: str) -> Line:
        beats, beat_type = METRES[self.metre]
        played = travel(ladder, self.direction, self.figure)
        rhythm = RHYTHMS[self.rhythm][1] if self.rhythm in RHYTHMS else self.rhythm
        text = lay_out(with_rhythm(played, rhythm), beats, beat_type)
        if self.halved:
            text += " | " + lay_out(with_rhythm(played, rhythm, Fraction(1, 2)), beats, beat_type)
        return Line(text=text, name=name, fifths=ladder.fifths, beats=beats, beat_type=beat_type)

    def _how(self) -> str:
        words = [counted("{count} octave", "{count} octaves", self.octaves)]
        if self.figure != "straight":
            words.append(FIGURES[self.figure][0].lower())
        if self.rhythm != "quarters":
            words.append(RHYTHMS[self.rhythm][0].lower() if self.rhythm in RHYTHMS else worded("as {rhythm}", rhythm=self.rhythm))
        return ", ".join(words)


def key_in_words(tonic: str) -> str:
    """``Eb`` as “E flat”."""
    return note_name(tonic)


@dataclass(frozen=True, slots=True, kw_only=True)
class Scale(_OnALadder):
    kind: ClassVar[str] = "scale"

    def __post_init__(self) -> None:
        self._check(SCALES, FIGURES)

    @property
    def title(self) -> str:
        return worded("{key} {scales} scale, {how}", key=key_in_words(self.tonic), scales=SCALES[self.mode][0].lower(), how=self._how())

    def line(self) -> Line:
        return self._written(scale_ladder(self.mode, near_tonic(self.tonic), self.octaves), worded("Scale"))


@dataclass(frozen=True, slots=True, kw_only=True)
class Arpeggio(_OnALadder):
    kind: ClassVar[str] = "arpeggio"

    def __post_init__(self) -> None:
        self._check(CHORDS, CHORD_FIGURES)

    @property
    def title(self) -> str:
        return worded("{key} {chords} arpeggio, {how}", key=key_in_words(self.tonic), chords=CHORDS[self.mode][0].lower(), how=self._how())

    def line(self) -> Line:
        return self._written(chord_ladder(self.mode, near_tonic(self.tonic), self.octaves), worded("Arpeggio"))


@dataclass(frozen=True, slots=True, kw_only=True)
class RhythmLine(Exercise):
    """Counted strokes and rests on one line; ``level`` as for sight-reading."""

    kind: ClassVar[str] = "rhythm"
    bars: int = 8
    level: str = "elementary"
    metre: str = "4/4"
    seed: int = 1

    def __post_init__(self) -> None:
        _choose(self.level, LEVELS, "level")
        _choose(self.metre, METRES, worded("Metre"))
        _within(self.bars, 1, 64, worded("The number of bars"))

    @property
    def title(self) -> str:
        return worded("Rhythm in {metre}, {title}, no. {seed}", metre=self.metre, title=LEVELS[self.level].title.lower(), seed=self.seed)

    def line(self) -> Line:
        beats, beat_type = METRES[self.metre]
        text = rhythm_text(self.bars, beats, beat_type, self.level, self.seed)
        return Line(text=text, name=worded("Rhythm"), clef="percussion", beats=beats, beat_type=beat_type)


@dataclass(frozen=True, slots=True, kw_only=True)
class Chart(Exercise):
    """Chords over strummed strokes. ``sections`` are named lines of chords, ``order`` how they follow: “V V C V C”."""

    kind: ClassVar[str] = "chart"
    sections: str = "V: C G Am F"
    order: str = ""
    strokes: str = "q q q q"
    metre: str = "4/4"

    def __post_init__(self) -> None:
        _choose(self.metre, METRES, worded("Metre"))
        progression(self.sections, self.order)

    @property
    def title(self) -> str:
        chords = list(dict.fromkeys(progression(self.sections, self.order)))
        return (
            worded("Strumming: {chords} …", chords=" ".join(chords[:6]))
            if len(chords) > 6
            else worded("Strumming: {chords}", chords=" ".join(chords[:6]))
        )

    def line(self) -> Line:
        beats, beat_type = METRES[self.metre]
        text = chart_text(progression(self.sections, self.order), self.strokes, bar_length(beats, beat_type))
        return Line(text=text, name=worded("Guitar"), beats=beats, beat_type=beat_type, slashes=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class SightReading(Exercise):
    """A melody nobody has seen before; another seed gives another one."""

    kind: ClassVar[str] = "sight_reading"
    bars: int = 8
    level: str = "elementary"
    metre: str = "4/4"
    tonic: str = "C"
    mode: str = "major"
    seed: int = 1

    def __post_init__(self) -> None:
        _choose(self.level, LEVELS, "level")
        _choose(self.metre, METRES, worded("Metre"))
        _choose(self.tonic, TONICS, worded("Key note"))
        _choose(self.mode, ("major", "natural_minor", "harmonic_minor", "dorian", "mixolydian"), "mode")
        _within(self.bars, 2, 64, worded("The number of bars"))

    @property
    def title(self) -> str:
        return worded(
            "Sight-reading, {title}, {key} {scales}, no. {seed}",
            title=LEVELS[self.level].title.lower(),
            key=key_in_words(self.tonic),
            scales=SCALES[self.mode][0].lower(),
            seed=self.seed,
        )

    def line(self) -> Line:
        beats, beat_type = METRES[self.metre]
        ladder = scale_ladder(self.mode, near_tonic(self.tonic, 60), 2)
        text = sight_reading(ladder.up, self.bars, beats, beat_type, self.level, self.seed)
        return Line(text=text, name=worded("Melody"), fifths=ladder.fifths, beats=beats, beat_type=beat_type)


@dataclass(frozen=True, slots=True, kw_only=True)
class SightReadingTwoHands(Exercise):
    """The same on two staves."""

    kind: ClassVar[str] = "sight_reading_two_hands"
    bars: int = 8
    level: str = "elementary"
    metre: str = "4/4"
    tonic: str = "C"
    seed: int = 1

    def __post_init__(self) -> None:
        _choose(self.level, LEVELS, "level")
        _choose(self.metre, METRES, worded("Metre"))
        _choose(self.tonic, TONICS, worded("Key note"))
        _within(self.bars, 2, 64, worded("The number of bars"))

    @property
    def title(self) -> str:
        return worded(
            "Sight-reading for two hands, {title}, {key} major, no. {seed}",
            title=LEVELS[self.level].title.lower(),
            key=key_in_words(self.tonic),
            seed=self.seed,
        )

    def line(self) -> Line:
        beats, beat_type = METRES[self.metre]
        upper, lower = (scale_ladder("major", near_tonic(self.tonic, middle), 2) for middle in (67, 48))
        text, left = two_hands(upper.up, lower.up, self.bars, beats, beat_type, self.level, self.seed)
        return Line(text=text, lower=left, name=worded("Piano"), fifths=upper.fifths, beats=beats, beat_type=beat_type)


#: A rhythm that fewer of a melody's notes take is no variation of it.
LEAST_FITTING = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class Variation(Exercise):
    """A rhythm laid on a melody of the library: ``notes`` as (name, quarters as “3/2”), in concert pitch."""

    kind: ClassVar[str] = "variation"
    source: str = _("Melody")
    notes: tuple[tuple[str, str], ...] = ()
    fifths: int = 0
    metre: str = "4/4"
    pattern: str = "s s e"
    words: str = ""

    def __post_init__(self) -> None:
        _choose(self.metre, METRES, worded("Metre"))
        if not self.notes:
            raise PassageError("exercise.no_melody", worded("Choose a passage of one voice to lay the rhythm on."))
        fits, of = notes_that_take([(name, Fraction(length)) for name, length in self.notes], self.pattern)
        if fits < max(1, LEAST_FITTING * of):
            raise PassageError(
                "exercise.pattern",
                worded(
                    "This rhythm fits {fits} of the melody’s {of} notes: the others are shorter than it. Choose a shorter one.",
                    fits=fits or "none",
                    of=of,
                ),
            )

    @property
    def title(self) -> str:
        return worded("{source}, varied: {words}", source=self.source, words=self.words or self.pattern)

    def line(self) -> Line:
        beats, beat_type = METRES[self.metre]
        text = vary([(name, Fraction(length)) for name, length in self.notes], self.pattern, self.words, beats, beat_type)
        return Line(text=text, name=worded("Melody"), fifths=self.fifths, beats=beats, beat_type=beat_type)


KINDS: dict[str, type[Any]] = {k.kind: k for k in (Scale, Arpeggio, RhythmLine, Chart, SightReading, SightReadingTwoHands, Variation)}
STROKE_PATTERNS = BARS_OF_STROKES


def make(kind: str, choices: Mapping[str, Any]) -> tuple[Exercise, bytes]:
    """An exercise and its MusicXML.

    Raises:
        PassageError: an unknown kind, or a choice that makes no sense.
    """
    if kind not in KINDS:
        raise PassageError("exercise.kind", worded("There is no exercise “{kind}”. Known: {kinds}.", kind=kind, kinds=", ".join(KINDS)))
    names = {f.name for f in fields(KINDS[kind])}
    exercise: Exercise = KINDS[kind](**{name: value for name, value in choices.items() if name in names})
    return exercise, write_musicxml([exercise.line()], title=exercise.title)


def choices_of(exercise: Any) -> dict[str, Any]:
    """The choices as plain values, to make the same exercise again."""
    return asdict(exercise)
