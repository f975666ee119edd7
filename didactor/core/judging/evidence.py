"""What the checks look at: every expected note's judgement, and the readings of tempo, pulse and tuning."""

from __future__ import annotations

from dataclasses import dataclass

from didactor.core.hearing.hearing import ChordReading, Count, ExtraNote, Status, Tuning
from didactor.core.instruments import Instrument
from didactor.core.judging.targets import Targets
from didactor.core.judging.words import pitch_in_words
from didactor.core.score.expected import Expectation, ExpectedNote
from didactor.core.steps import ear_of
from didactor.core.words import worded


@dataclass(frozen=True, slots=True, kw_only=True)
class NoteJudgement:
    """One expected note. Times in seconds of the recording; None where not heard or not judged; ``reason`` says why.
    ``unsure_ms``: how unsure the time is at which it was due. ``timed``: its onset is sure enough for questions of rhythm.
    ``stretch`` counts the jumps in the score before it.
    """

    note: ExpectedNote
    status: Status
    confidence: float
    reason: str | None = None
    onset_s: float | None = None
    offset_s: float | None = None
    heard_midi: int | None = None
    cents: float | None = None
    early_late_ms: float | None = None
    early_late_quarters: float | None = None
    unsure_ms: float = 0.0
    length_ratio: float | None = None
    loudness_db: float | None = None
    own_db: float | None = None
    clearness: float | None = None
    timed: bool = False
    stretch: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Hesitation:
    """Time that does not belong to the pulse, before the note at this place."""

    note_index: int
    bar: str
    pass_: int
    beat: float
    time_s: float
    extra_quarters: float
    extra_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Restart:
    """A jump back in the score."""

    time_s: float
    from_bar: str
    to_bar: str
    from_index: int
    to_index: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Bend:
    """Bars one after the other, as (number, pass), that take longer or shorter than is usual in this take; ``share`` is the tempo of the
    bar that is furthest off, against the usual (below 1: it broadens). ``back``: the bar in which the usual tempo is there again, if any.
    """

    bars: tuple[tuple[str, int], ...]
    share: float
    back: str | None
    start_s: float
    end_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class TempoPoint:
    """The smooth tempo at one beat of the score."""

    bar: str
    pass_: int
    beat: float
    quarters: float
    time_s: float
    qpm: float


@dataclass(frozen=True, slots=True, kw_only=True)
class TempoReading:
    """``played_qpm`` over the matched span without hesitations and restarts; None where too little was matched."""

    played_qpm: float | None
    deviation_percent: float | None
    verdict: str | None
    drift_percent_per_bar: float | None
    drift_confidence: float
    curve: tuple[TempoPoint, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Pair:
    """Written-equal notes that fill a beat (or, where ``half``, half a beat): the first half's share of it, per cent (50 is even)."""

    bar: str
    pass_: int
    beat: float
    onset_quarters: float
    ratio_percent: float
    half: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Hand:
    """One staff of two: how late it is against the other where both begin together, and against the pulse (early < 0).

    ``balance_db``: how much louder it is than the other, to an ear; None where too few notes of both can be told apart. ``clearer``:
    how much more clearly its notes begin, as a difference of probabilities.
    """

    staff: int
    asynchrony_ms: float
    early_late_ms: float
    spread_ms: float
    together: int
    balance_db: float | None = None
    clearer: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Zone:
    """Notes under one dynamic mark, by bar: their median level within the take, dB."""

    from_bar: str
    to_bar: str
    marked: str
    db: float
    notes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """The first note against the count-off (early < 0)."""

    early_late_quarters: float
    due_s: float
    time_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Apart:
    """How far a bar is from its place in the accompaniment (early < 0), beyond what the entry and pauses before it explain."""

    bar: str
    pass_: int
    beats: float
    late_s: float
    time_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Evidence:
    """Everything known about one take after alignment. ``shift`` is a constant transposition of the whole take,
    semitones. ``inferred``: the rhythm was not written but heard, so no note of it is early, late or missing. ``scatter_ms``: what the
    player leaves to chance in time (standard deviation). ``touch``: sounding over written length that is usual with this player, None where
    too few notes tell. ``bends``: bars in which the time broadens or presses on. ``written_quarters``: how long the passage is, where its
    rhythm was heard. ``apart``: each bar against the accompaniment, None without one.
    """

    expectation: Expectation
    targets: Targets
    instrument: Instrument
    notes: tuple[NoteJudgement, ...]
    extra: tuple[ExtraNote, ...]
    tempo: TempoReading
    hesitations: tuple[Hesitation, ...]
    restarts: tuple[Restart, ...]
    skipped_bars: tuple[tuple[str, int], ...]
    pairs: tuple[Pair, ...]
    tuning: Tuning | None
    shift: int
    chords: tuple[ChordReading, ...] | None = None
    count: Count | None = None
    hands: tuple[Hand, ...] | None = None
    zones: tuple[Zone, ...] | None = None
    entry: Entry | None = None
    inferred: bool = False
    scatter_ms: float = 0.0
    touch: float | None = None
    bends: tuple[Bend, ...] = ()
    written_quarters: float | None = None
    apart: tuple[Apart, ...] | None = None

    def in_words(self, note: ExpectedNote) -> str:
        """A note by its name, or as a stroke where pitch does not matter."""
        strokes = note.unpitched or ear_of(self.targets.step).sounds == "strokes" or not self.instrument.pitched
        return worded("the stroke") if strokes else pitch_in_words(note.written_pitch)
