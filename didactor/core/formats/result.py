"""The result of hearing one take, as it is stored: typed values with their form in JSON (``analysis.schema.json`` is the contract).

``beat`` is a place in its bar, in quarters from 0; times are seconds of the recording; tempi count quarters a minute. What was not
judged is None, never an empty tuple. ``read_result`` reads what earlier schemas wrote as well.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from didactor.core.formats.plain import from_plain, stored, to_plain
from didactor.core.hearing.hearing import Status
from didactor.core.instruments import Instrument, find_instrument
from didactor.core.judging.targets import Targets
from didactor.core.steps import Ear, ear_of

SCHEMA_NAME = "didactor-analysis-2"
#: What schema 1 called them; both count quarters.
_RENAMED_SINCE_1 = {"early_late_beats": "early_late_quarters", "extra_beats": "extra_quarters"}


@dataclass(frozen=True, slots=True, kw_only=True)
class SoundProblem:
    code: str
    text: str = stored(words=True)
    start_s: float | None = stored(digits=3, default=None)
    end_s: float | None = stored(digits=3, default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class SoundQuality:
    """``verdict``: ``ok``, ``poor`` or ``unusable``."""

    verdict: str
    problems: tuple[SoundProblem, ...]
    numbers: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Sound:
    duration_s: float = stored(digits=3)
    quality: SoundQuality


@dataclass(frozen=True, slots=True, kw_only=True)
class TuningHeard:
    a4_hz: float = stored(digits=2)
    offset_cents: float = stored(digits=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class CurvePoint:
    bar: str
    pass_: int = stored("pass")
    beat: float = stored(digits=3)
    time_s: float = stored(digits=3)
    qpm: float = stored("bpm", digits=2)


@dataclass(frozen=True, slots=True, kw_only=True)
class TempoHeard:
    target_qpm: float = stored("target_bpm", digits=2)
    target_to_qpm: float | None = stored("target_to_bpm", digits=2, default=None)
    played_qpm: float | None = stored("played_bpm", digits=2, default=None)
    deviation_percent: float | None = stored(digits=2, default=None)
    band_percent: float | None = stored(digits=2, default=None)
    verdict: str | None = None
    drift_percent_per_bar: float | None = stored(digits=3, default=None)
    curve: tuple[CurvePoint, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Pause:
    """A hesitation before a note."""

    bar: str
    pass_: int = stored("pass")
    beat: float = stored(digits=3)
    time_s: float = stored(digits=3)
    extra_quarters: float = stored(digits=3)
    extra_s: float = stored(digits=3)
    note_id: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class JumpBack:
    time_s: float = stored(digits=3)
    from_bar: str
    to_bar: str
    note_id: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class SkippedBar:
    bar: str
    pass_: int = stored("pass")


@dataclass(frozen=True, slots=True, kw_only=True)
class PairHeard:
    bar: str
    pass_: int = stored("pass")
    beat: float = stored(digits=3)
    ratio_percent: float = stored(digits=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class EntryHeard:
    early_late_quarters: float = stored(digits=3)


@dataclass(frozen=True, slots=True, kw_only=True)
class BendHeard:
    """Bars that broaden (``share`` below 1) or press on, against the take's usual tempo; a fault only where the stage says so."""

    from_bar: str
    to_bar: str
    pass_: int = stored("pass")
    share: float = stored(digits=3)
    start_s: float = stored(digits=3)
    end_s: float = stored(digits=3)


@dataclass(frozen=True, slots=True, kw_only=True)
class PulseHeard:
    hesitations: tuple[Pause, ...] = ()
    restarts: tuple[JumpBack, ...] = ()
    skipped_bars: tuple[SkippedBar, ...] = ()
    bends: tuple[BendHeard, ...] = ()
    evenness: tuple[PairHeard, ...] | None = None
    entry: EntryHeard | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class NoteResult:
    """One expected note, as judged."""

    id: str
    bar: str
    pass_: int = stored("pass")
    beat: float = stored(digits=3)
    part: int
    staff: int
    written_pitch: str
    sounding_midi: int
    status: Status
    reason: str | None = stored(words=True, default=None)
    confidence: float = stored(digits=3)
    onset_s: float | None = stored(digits=3, default=None)
    offset_s: float | None = stored(digits=3, default=None)
    heard_midi: int | None = None
    cents: float | None = stored(digits=1, default=None)
    early_late_ms: float | None = stored(digits=1, default=None)
    early_late_quarters: float | None = stored(digits=3, default=None)
    length_ratio: float | None = stored(digits=3, default=None)
    loudness_db: float | None = stored(digits=1, default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class ExtraResult:
    onset_s: float = stored(digits=3)
    midi: int | None = None
    bar: str
    pass_: int = stored("pass")
    beat: float = stored(digits=3)


@dataclass(frozen=True, slots=True, kw_only=True)
class HandHeard:
    staff: int
    asynchrony_ms: float = stored(digits=1)
    early_late_ms: float = stored(digits=1)
    together: int
    balance_db: float | None = stored(digits=1, default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class ZoneHeard:
    from_bar: str = stored("from")
    to_bar: str = stored("to")
    marked: str | None = None
    db: float = stored(digits=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class LoudnessHeard:
    zones: tuple[ZoneHeard, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ChordHeard:
    bar: str
    pass_: int = stored("pass")
    beat: float = stored(digits=3)
    written: str
    heard: str | None = None
    status: Status
    confidence: float = stored(digits=3)


@dataclass(frozen=True, slots=True, kw_only=True)
class CountHeard:
    written: int
    played: int


@dataclass(frozen=True, slots=True, kw_only=True)
class FindingResult:
    """One thing to mend."""

    code: str
    category: str
    bar: str | None = None
    pass_: int | None = stored("pass", default=None)
    beat: float | None = stored(digits=3, default=None)
    note_ids: tuple[str, ...] = ()
    size: float | None = stored(digits=3, default=None)
    unit: str | None = None
    confidence: float = stored(digits=3)
    text: str = stored(words=True)
    start_s: float | None = stored(digits=3, default=None)
    end_s: float | None = stored(digits=3, default=None)


@dataclass(frozen=True, kw_only=True)
class Result:
    """All that is kept of one hearing. Where the sound was unusable everything after ``tuning`` is None."""

    schema: str = SCHEMA_NAME
    engine_version: str
    audio: Sound
    targets: Targets
    tuning: TuningHeard | None = None
    tempo: TempoHeard | None = None
    pulse: PulseHeard | None = None
    notes: tuple[NoteResult, ...] | None = None
    hands: tuple[HandHeard, ...] | None = None
    loudness: LoudnessHeard | None = None
    chords: tuple[ChordHeard, ...] | None = None
    count: CountHeard | None = None
    extra: tuple[ExtraResult, ...] | None = None
    findings: tuple[FindingResult, ...] | None = None

    def to_json(self) -> dict[str, Any]:
        """Plain values for a file or a database column."""
        return {name: to_plain(getattr(self, name)) for name in self.__dataclass_fields__}

    @property
    def quality(self) -> SoundQuality:
        return self.audio.quality

    @property
    def is_usable(self) -> bool:
        return self.quality.verdict != "unusable"

    @cached_property
    def ear(self) -> Ear:
        return ear_of(self.targets.step)

    @cached_property
    def instrument(self) -> Instrument:
        return find_instrument(self.targets.instrument or "")

    @property
    def by_pitch(self) -> bool:
        """Whether the notes were judged by their pitch."""
        return self.ear.by_pitch and self.instrument.pitched

    @cached_property
    def flagged(self) -> dict[str, set[str]]:
        """Category to the ids of the notes that a finding names; only they carry the accent."""
        found: dict[str, set[str]] = {}
        for finding in self.findings or ():
            found.setdefault(finding.category, set()).update(finding.note_ids)
        return found

    def index_of_note(self, note_ids: tuple[str, ...] | list[str], pass_: int | None = None) -> int | None:
        """The place among the notes of the first one named; None where none is."""
        if not note_ids:
            return None
        notes = enumerate(self.notes or ())
        return next((i for i, n in notes if n.id == note_ids[0] and (pass_ is None or n.pass_ == pass_)), None)


def read_result(data: Mapping[str, Any]) -> Result:
    """A stored result, of this schema or an earlier one.

    Raises:
        ValueError: no result of ours, or of a schema that came later.
    """
    if data.get("schema") == "didactor-analysis-1":
        data = {**_renamed(data), "schema": SCHEMA_NAME}
    if data.get("schema") != SCHEMA_NAME:
        raise ValueError(f"no result that can be read here: schema {data.get('schema')!r}")
    return from_plain(Result, data)


def _renamed(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {_RENAMED_SINCE_1.get(key, key): _renamed(inner) for key, inner in value.items()}
    return [_renamed(item) for item in value] if isinstance(value, list) else value


def with_names_of_schema_1(data: Any) -> Any:
    """Plain JSON with the older names beside the newer ones, for programs that were written for schema 1."""
    if isinstance(data, Mapping):
        older = {old: data[new] for old, new in _RENAMED_SINCE_1.items() if new in data}
        return {key: with_names_of_schema_1(inner) for key, inner in data.items()} | older
    return [with_names_of_schema_1(item) for item in data] if isinstance(data, list) else data
