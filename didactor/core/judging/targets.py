"""What a take is judged against, apart from the notes: the assignment's targets as one frozen value."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from didactor.core.errors import PassageError
from didactor.core.judging.stages import BY_SLUG, Stage
from didactor.core.steps import all_ears
from didactor.core.units import BEAT_UNIT_NAMES, BEAT_UNIT_QUARTERS, quarters_to_beats_per_minute
from didactor.core.words import worded

TEMPO_LOW, TEMPO_HIGH = 10.0, 400.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Targets:
    """Tempi in quarters per minute; ``beat_unit`` is how they are written.

    With ``tempo_to_qpm`` the target is a range; the band widens both its ends.

    Args:
        step: what is done with the passage, the slug of one of ``steps.all_ears()``; it chooses the method of hearing.
        clicks_s: times of an audible metronome or count-off in the recording, where the recorder knows them; seconds.
        late_s: by how much what this device plays comes late in its recordings, where that was measured: for takes in which it cannot be
            heard, as with headphones.
        ritardando_quarters: length of an allowed slowing down at the end.
        alternatives: note id to further sounding MIDI numbers that are right.
        optional: ids of notes that may be left out.
        staff: one hand alone: only this staff is expected, from 1; None for all.

    Raises:
        PassageError: a tempo, band or stage outside what makes sense.
    """

    tempo_qpm: float
    tempo_to_qpm: float | None = None
    band_percent: float | None = None
    stage: str = "at_tempo"
    count_off: int = 0
    instrument: str | None = None
    bars: str | None = None
    order: str | None = None
    beat_unit: str = "quarter"
    step: str = "play"
    clicks_s: tuple[float, ...] = ()
    late_s: float | None = None
    ritardando_quarters: float = 0.0
    alternatives: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    optional: tuple[str, ...] = ()
    staff: int | None = None

    def __post_init__(self) -> None:
        if self.stage not in BY_SLUG:
            raise PassageError(
                "targets.stage", worded("There is no stage “{stage}”. Known: {by_slug}.", stage=self.stage, by_slug=", ".join(BY_SLUG))
            )
        known = [ear.slug for ear in all_ears()]
        if self.step not in known:
            raise PassageError("targets.step", worded("There is no step “{step}”. Known: {known}.", step=self.step, known=", ".join(known)))
        if self.beat_unit not in BEAT_UNIT_QUARTERS:
            raise PassageError("targets.beat_unit", worded("There is no beat unit “{beat_unit}”.", beat_unit=self.beat_unit))
        for tempo in (self.tempo_qpm, self.tempo_to_qpm):
            if tempo is not None and not TEMPO_LOW <= tempo <= TEMPO_HIGH:
                raise PassageError(
                    "targets.tempo",
                    worded(
                        "A tempo of {tempo:g} is not playable: choose {tempo_low:g} to {tempo_high:g}.",
                        tempo=tempo,
                        tempo_low=TEMPO_LOW,
                        tempo_high=TEMPO_HIGH,
                    ),
                )
        if self.tempo_to_qpm is not None and self.tempo_to_qpm < self.tempo_qpm:
            raise PassageError("targets.tempo", worded("The upper tempo is below the lower one."))
        if self.band_percent is not None and not 0 < self.band_percent <= 60:
            raise PassageError("targets.band", worded("The band must lie between 0 and 60 %."))

    @property
    def stage_rules(self) -> Stage:
        return BY_SLUG[self.stage]

    @property
    def band(self) -> float:
        """Allowed deviation either way, per cent."""
        return self.band_percent if self.band_percent is not None else self.stage_rules.band_percent

    @property
    def middle_qpm(self) -> float:
        return (self.tempo_qpm + (self.tempo_to_qpm or self.tempo_qpm)) / 2

    def at_own_tempo(self, qpm: float) -> Targets:
        """The same with a tempo that the student chose; unchanged where the stage fixes it. Raises ``PassageError``.

        What is asked for stays the upper end where the stage judges the tempo: who chooses to go slower may still play up to it.
        """
        if not self.stage_rules.own_tempo:
            return self
        if self.stage_rules.tempo is None:
            return replace(self, tempo_qpm=qpm, tempo_to_qpm=None)
        if qpm >= self.tempo_qpm:
            return self
        return replace(self, tempo_qpm=qpm, tempo_to_qpm=self.tempo_to_qpm or self.tempo_qpm)

    def in_words(self, qpm: float) -> str:
        """A tempo in the assignment's own beat unit: “dotted quarter = 60”."""
        return worded("{unit} = {tempo:.0f}", unit=BEAT_UNIT_NAMES[self.beat_unit], tempo=self.beats_per_minute(qpm))

    def beats_per_minute(self, qpm: float) -> float:
        """Quarters a minute in the assignment's own beat unit."""
        return quarters_to_beats_per_minute(qpm, self.beat_unit)

    def to_json(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Targets:
        known = {name: data[name] for name in cls.__dataclass_fields__ if name in data}
        for name in ("clicks_s", "optional"):
            if name in known:
                known[name] = tuple(known[name])
        if "alternatives" in known:
            known["alternatives"] = {note: tuple(pitches) for note, pitches in known["alternatives"].items()}
        try:
            return cls(**known)
        except TypeError as error:
            raise PassageError("targets.incomplete", worded("The targets need at least tempo_qpm.")) from error
