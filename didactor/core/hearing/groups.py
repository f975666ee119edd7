"""Onsets of many voices: single strikes from the note model, timed on the sound, and gathered into what begins together."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d

from didactor.core.arrays import FloatArray
from didactor.core.hearing.alignment import Material
from didactor.core.hearing.note_model import KEYS, LOWEST_MIDI, Posteriors
from didactor.core.hearing.spectrum import HOP_S, Spectrum, partial_bins, rise_of
from didactor.core.peaks import vertex
from didactor.core.score.expected import Expectation

#: A strike is a peak of the onset posterior of at least this height.
STRIKE = 0.3
#: Strikes from here on tell what is usual in a take.
CLEAR = 0.75
#: The posterior's peak comes this much before the sound's half level, and may be this far off.
EARLY_S, AROUND_S = 0.02, 0.045
#: Strikes within this time of a group's first belong to it.
TOGETHER_S = 0.06
#: Posteriors up to here say little.
FAINT = 0.4
MISSED_COST, WRONG_COST, EXTRA_COST = 1.0, 1.15, 0.8
OPTIONAL_MISSED_COST = 0.15


@dataclass(frozen=True, slots=True, kw_only=True)
class Strike:
    """One key's onset: its posterior, and how much its partials rise (1 is usual in the take)."""

    time_s: float
    midi: int
    strength: float
    rise: float

    @property
    def clearness(self) -> float:
        """0..1; strings that beat and rooms that ring make many faint strikes without a rise."""
        return float(np.clip((self.strength - FAINT) / 0.4, 0.0, 1.0) * np.clip(2.0 * self.rise, 0.2, 1.0))


@dataclass(frozen=True, slots=True, kw_only=True)
class Group:
    """Strikes that begin together; ``time_s`` is the strongest's weighted mean."""

    time_s: float
    strikes: tuple[Strike, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Moment:
    """Expected notes that begin together: indices, in performed order."""

    quarters: float
    notes: tuple[int, ...]
    bar_start: bool


def moments_of(expectation: Expectation) -> list[Moment]:
    """Moments of the passage; grace notes are left out, they have no time of their own."""
    groups: dict[float, list[int]] = {}
    for index, note in enumerate(expectation.notes):
        if not note.grace:
            groups.setdefault(round(note.onset_quarters, 6), []).append(index)
    found: list[Moment] = []
    before = None
    for quarters, indices in sorted(groups.items()):
        bar = (expectation.notes[indices[0]].bar, expectation.notes[indices[0]].pass_)
        found.append(Moment(quarters=quarters, notes=tuple(indices), bar_start=bar != before))
        before = bar
    return found


def strikes_of(posteriors: Posteriors, spectrum: Spectrum, tuning_cents: float) -> list[Strike]:
    """All strikes, in order of time."""
    onset = posteriors.onset
    peaks = (onset >= STRIKE) & (onset == maximum_filter1d(onset, 7, axis=0))
    found = []
    for frame, key in zip(*np.nonzero(peaks), strict=True):
        if frame + 1 < len(onset) and onset[frame + 1, key] == onset[frame, key]:
            continue
        rough_s = frame * posteriors.hop_s + EARLY_S
        time_s, rise = onset_time(spectrum, LOWEST_MIDI + int(key) + tuning_cents / 100, rough_s, AROUND_S)
        found.append(Strike(time_s=time_s, midi=LOWEST_MIDI + int(key), strength=float(onset[frame, key]), rise=rise))
    usual = float(np.median([s.rise for s in found if s.strength > CLEAR] or [1.0])) or 1.0
    return sorted((replace(s, rise=s.rise / usual) for s in found), key=lambda s: s.time_s)


def onset_time(spectrum: Spectrum, pitch: float, near_s: float, around_s: float) -> tuple[float, float]:
    """When the partials of a pitch rise most near a time, and how much; the time itself where nothing rises."""
    bins = partial_bins(pitch)
    first, last = spectrum.frame(near_s - around_s), spectrum.frame(near_s + around_s)
    if len(bins) == 0 or last <= first:
        return near_s, 0.0
    rise = rise_of(spectrum, bins, first, last)
    at = np.arange(first, last + 1) * HOP_S
    score = rise * np.exp(-(((at - near_s) / (1.2 * around_s)) ** 2))
    best = int(np.argmax(score))
    if rise[best] < 0.02:
        return near_s, 0.0
    shift = 0.0
    if 0 < best < len(rise) - 1:
        shift = vertex(*rise[best - 1 : best + 2])
    return float((first + best + shift) * HOP_S), float(rise[best])


def groups_of(strikes: list[Strike]) -> list[Group]:
    """Gather strikes into groups; the strongest of what is left opens the next group."""
    groups: list[list[Strike]] = []
    for strike in strikes:
        if groups and strike.time_s - groups[-1][0].time_s <= TOGETHER_S and all(s.midi != strike.midi for s in groups[-1]):
            groups[-1].append(strike)
        else:
            groups.append([strike])
    result = []
    for group in groups:
        weights = np.array([s.strength for s in group])
        result.append(Group(time_s=float(weights @ np.array([s.time_s for s in group]) / weights.sum()), strikes=tuple(group)))
    return result


def group_material(groups: list[Group], moments: list[Moment], expectation: Expectation, shift: int = 0) -> Material:
    """Costs of groups against moments: how much of the moment is missing, and how much of the group does not belong."""
    heard, clear = np.zeros((len(groups), KEYS)), np.zeros((len(groups), KEYS))
    for g, group in enumerate(groups):
        for strike in group.strikes:
            heard[g, strike.midi - LOWEST_MIDI] = strike.strength
            clear[g, strike.midi - LOWEST_MIDI] = strike.clearness
    written, sizes = np.zeros((len(moments), KEYS)), np.zeros(len(moments))
    sure = np.minimum(1.0, heard / 0.7)
    hit = np.zeros((len(groups), len(moments)))
    for m, moment in enumerate(moments):
        for index in moment.notes:
            # Any pitch that is right here counts, once.
            keys = [k for p in expectation.notes[index].pitches if 0 <= (k := p + shift - LOWEST_MIDI) < KEYS]
            if keys:
                written[m, keys] = 1.0
                hit[:, m] += sure[:, keys].max(axis=1)
                sizes[m] += 1.0
    hit /= np.maximum(sizes, 1.0)[None, :]
    allowed = np.minimum(1.0, written + _overtones(written))
    strength = clear.sum(axis=1)
    foreign = (strength[:, None] - clear @ allowed.T) / np.maximum(strength[:, None], 0.5)
    pair = WRONG_COST * (0.75 * (1.0 - hit) + 0.25 * foreign)
    return Material(
        times=np.array([g.time_s for g in groups]),
        extra=EXTRA_COST * np.clip(strength, 0.05, 1.0),
        soft=strength < 0.5,
        quarters=np.array([m.quarters for m in moments]),
        missed=np.array([OPTIONAL_MISSED_COST if all(expectation.notes[i].optional for i in m.notes) else MISSED_COST for m in moments]),
        untimed=np.zeros(len(moments), dtype=bool),
        bar_start=np.array([m.bar_start for m in moments]),
        pair=pair,
    )


def _overtones(written: FloatArray) -> npt.NDArray[np.float64]:
    """Keys at which the partials of the written ones may be heard: octave, twelfth and double octave above."""
    result = np.zeros_like(written)
    for interval in (12, 19, 24):
        result[:, interval:] += written[:, :-interval]
    return result
