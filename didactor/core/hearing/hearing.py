"""What an ear delivers to the judge, whichever method it used: for every expected note what was heard, and what came on top."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from didactor.core.score.expected import Expectation, ExpectedNote


class Status(StrEnum):
    """What became of an expected note."""

    CORRECT = "correct"
    WRONG_PITCH = "wrong_pitch"
    MISSED = "missed"
    UNCERTAIN = "uncertain"


@dataclass(frozen=True, slots=True, kw_only=True)
class NoteHeard:
    """One expected note. Times in seconds of the recording, None where not heard; ``reason`` says why a note is not judged.

    ``began_s``: another reading of the onset, None where there is only one. A note is late or early by the reading that makes it less so.
    ``stretch`` counts the jumps in the score before it: notes of one stretch were played one after the other. ``timed`` notes have
    an onset that the pulse may rest on. Of many voices: ``own_db`` is the level of the note's own partials, None where it shares them;
    ``clearness`` (0..1) how clearly it begins.
    """

    status: Status
    confidence: float
    reason: str | None = None
    onset_s: float | None = None
    began_s: float | None = None
    offset_s: float | None = None
    heard_midi: int | None = None
    cents: float | None = None
    loudness_db: float | None = None
    own_db: float | None = None
    clearness: float | None = None
    stretch: int = 0
    timed: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class ExtraNote:
    """A sound that belongs to no expected note, with the place in the score where it fell; a stroke has no ``midi``."""

    onset_s: float
    midi: int | None
    bar: str
    pass_: int
    beat: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Jump:
    """The playing went on at another place of the score; indices of expected notes."""

    time_s: float
    from_index: int
    to_index: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Tuning:
    a4_hz: float
    offset_cents: float
    concentration: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ChordReading:
    """One written stroke of a chord chart: the symbol in force, what was heard (a symbol, or None) and the verdict."""

    note: ExpectedNote
    written: str
    heard: str | None
    status: Status
    confidence: float
    onset_s: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Count:
    """Strokes written and played."""

    written: int
    played: int


@dataclass(frozen=True, kw_only=True)
class Hearing:
    """All that was heard of one take. ``shift``: everything sounds that many semitones from what is written.

    ``share_of_notes`` and ``share_of_sounds`` tell how much of the passage and of the recording fit each other: little of both
    means that something else was played. ``steadiness``: the share of what has a pitch that holds it (talk hardly does). ``rhythm``
    is what was heard where nothing is written; ``notes`` belong to it then. ``of_strokes``: plain strokes, for which a click can be taken.
    """

    notes: tuple[NoteHeard, ...]
    extra: tuple[ExtraNote, ...]
    jumps: tuple[Jump, ...]
    seconds_per_quarter: float
    share_of_notes: float
    share_of_sounds: float
    tuning: Tuning | None = None
    shift: int = 0
    chords: tuple[ChordReading, ...] | None = None
    count: Count | None = None
    rhythm: Expectation | None = None
    steadiness: float | None = None
    of_strokes: bool = False

    def onset_holds(self, index: int, residual_s: float) -> bool:
        """A second look at a note that lies ``residual_s`` from its place in the pulse: did it really begin there?"""
        return True
