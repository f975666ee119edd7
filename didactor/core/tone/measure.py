"""What can be measured of tone in one take: long notes, the first note, downbeats, breaths, and how two notes of a chord are balanced.

All of it depends on room and microphone, so that most of it says something only beside another take of the same passage
(``compare.py``). Levels are in dB below full scale.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from didactor.core.formats.plain import stored
from didactor.core.formats.result import NoteResult, Result
from didactor.core.hearing.hearing import Status
from didactor.core.score.expected import Expectation, ExpectedNote
from didactor.core.sound.recording import RATE_HZ

Samples = npt.NDArray[np.float32]

#: A note is long from here on; its beginning and end are left out: there it is being made.
LONG_S, HEAD_S, TAIL_S = 0.9, 0.18, 0.12
#: Windows of level, and of pitch and noise.
LEVEL_WINDOW, LEVEL_HOP = 1280, 640
WINDOW, HOP = 8192, 2048
#: Noise is looked for between the partials in this band.
BAND_HZ = (150.0, 5000.0)
#: What lies so near to a partial, in bins and as a share of its frequency (20 cents of vibrato), is the partial.
NEAR_BINS, NEAR_SHARE = 3.0, 0.012
#: Level that varies more slowly than this is unsteadiness; vibrato is quicker.
SLOW_S = 0.25
#: The first note against so many next ones; downbeats against other beats from so many of each.
NEXT_NOTES, FEWEST_BEATS = 4, 4
#: A silence of so long between notes is a breath.
BREATH_S = 0.16
#: Intervals of a chord whose upper note lies on a partial of the lower one, octaves counted away.
ON_PARTIALS = {0, 7}
#: Where the balance of a chord is looked at, in seconds from its beginning; and how many partials of each note.
CHORD_S, PARTIALS = (0.03, 0.28), 8


@dataclass(frozen=True, slots=True, kw_only=True)
class LongNote:
    """``slope_db`` and ``slope_cents``: a second; ``wobble_db``: how much its level varies besides; ``noise_db``: noise to tone."""

    id: str
    bar: str
    pass_: int = stored("pass")
    start_s: float = stored(digits=2)
    end_s: float = stored(digits=2)
    level_db: float = stored(digits=1)
    slope_db: float = stored(digits=2)
    wobble_db: float = stored(digits=2)
    slope_cents: float | None = stored(digits=1, default=None)
    noise_db: float | None = stored(digits=1, default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class Breath:
    """A silence that is not written, before a note; ``in_slur``: a slur binds that note to the one before."""

    bar: str
    beat: float = stored(digits=3)
    seconds: float = stored(digits=2)
    at_s: float = stored(digits=2)
    in_slur: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Balance:
    """Upper against lower note of a chord in one hand."""

    id: str
    bar: str
    pass_: int = stored("pass")
    at_s: float = stored(digits=2)
    upper_db: float = stored(digits=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Tone:
    """``first_db``: the first note against the next ones; ``downbeat_db``: first beats against the others, where single notes allow it."""

    background_db: float = stored(digits=1)
    long: tuple[LongNote, ...] = ()
    first_db: float | None = stored(digits=1, default=None)
    first_s: float | None = stored(digits=2, default=None)
    downbeat_db: float | None = stored(digits=1, default=None)
    breaths: tuple[Breath, ...] = ()
    chords: tuple[Balance, ...] = ()


def tone_of(samples: Samples, result: Result, music: Expectation) -> Tone | None:
    """Measure a take, mono at ``RATE_HZ``; None where no notes were heard by their pitch.

    Struck and plucked notes fade by themselves: of them no long notes are measured.
    """
    if not result.notes or not result.by_pitch or not len(samples):
        return None
    right = [n for n in result.notes if n.status is Status.CORRECT and n.onset_s is not None and n.offset_s is not None]
    expected = {(note.id, note.pass_): note for note in music.notes}
    level = _levels(samples)
    instrument = result.instrument
    one_voice = not instrument.many_voices
    first_db, first_s = _first(right, result.notes, expected)
    return Tone(
        background_db=round(float(np.percentile(level, 3)), 1),
        long=tuple(_long(samples, note) for note in right if one_voice and not instrument.decays and _length(note) >= LONG_S),
        first_db=first_db,
        first_s=first_s,
        downbeat_db=_downbeats(right, music) if one_voice else None,
        breaths=tuple(_breaths(right, result.notes, expected)) if instrument.family in ("woodwind", "brass", "voice") else (),
        chords=tuple(_chords(samples, right, expected)) if instrument.many_voices else (),
    )


def _length(note: NoteResult) -> float:
    return (note.offset_s or 0.0) - (note.onset_s or 0.0)


def _levels(samples: Samples) -> npt.NDArray[np.float64]:
    """RMS level of short windows in dB below full scale."""
    count = max(1, (len(samples) - LEVEL_WINDOW) // LEVEL_HOP + 1)
    padded = np.pad(samples, (0, max(0, LEVEL_WINDOW - len(samples)))).astype(np.float64)
    frames = np.lib.stride_tricks.sliding_window_view(padded, LEVEL_WINDOW)[::LEVEL_HOP][:count]
    return np.asarray(10 * np.log10(np.mean(frames**2, axis=1) + 1e-10))


def _long(samples: Samples, note: NoteResult) -> LongNote:
    start_s, end_s = (note.onset_s or 0.0) + HEAD_S, (note.offset_s or 0.0) - TAIL_S
    part = samples[max(0, int(start_s * RATE_HZ)) : int(end_s * RATE_HZ)]
    level = _levels(part)
    times = np.arange(len(level)) * LEVEL_HOP / RATE_HZ
    slope, at_zero = np.polyfit(times, level, 1) if len(level) > 2 else (0.0, float(level[0]))
    width = max(1, round(SLOW_S * RATE_HZ / LEVEL_HOP))
    rest = np.convolve(level - (slope * times + at_zero), np.ones(width) / width, mode="valid")
    cents, noise = _spectra(part, note.heard_midi if note.heard_midi is not None else note.sounding_midi)
    return LongNote(
        id=note.id,
        bar=note.bar,
        pass_=note.pass_,
        start_s=note.onset_s or 0.0,
        end_s=note.offset_s or 0.0,
        level_db=float(np.median(level)),
        slope_db=float(slope),
        wobble_db=float(np.std(rest)),
        slope_cents=cents,
        noise_db=noise,
    )


def _spectra(part: Samples, midi: int) -> tuple[float | None, float | None]:
    """How the pitch moves, in cents a second, and the noise between the partials against them, in dB; None for too short a note."""
    if len(part) < WINDOW + 2 * HOP:
        return None, None
    frames = np.lib.stride_tricks.sliding_window_view(part.astype(np.float64), WINDOW)[::HOP] * np.hanning(WINDOW)
    power = np.abs(np.fft.rfft(frames, 2 * WINDOW, axis=1)) ** 2
    bin_hz = RATE_HZ / (2 * WINDOW)
    written_hz = 440.0 * 2 ** ((midi - 69) / 12)
    grid = np.arange(-80.0, 80.5, 2.0)
    candidates = written_hz * 2 ** (grid / 1200)
    partials = np.arange(1, 1 + max(1, min(6, int(BAND_HZ[1] / written_hz))))
    at = np.clip(np.round(candidates[:, None] * partials / bin_hz).astype(int), 0, power.shape[1] - 1)
    score = np.log(power[:, at] + 1e-12).sum(axis=2)
    pitch = grid[np.argmax(score, axis=1)]
    times = np.arange(len(frames)) * HOP / RATE_HZ
    slope = float(np.median([(b - a) / (t - s) for (s, a), (t, b) in _far_pairs(times, pitch)]))
    hz = np.arange(power.shape[1]) * bin_hz
    inside = (hz >= BAND_HZ[0]) & (hz <= BAND_HZ[1])
    noise = [_noise(frame[inside], hz[inside], written_hz * 2 ** (cents / 1200), bin_hz) for frame, cents in zip(power, pitch, strict=True)]
    known = [value for value in noise if value is not None]
    return slope, float(np.median(known)) if known else None


def _noise(power: npt.NDArray[np.floating[Any]], hz: npt.NDArray[np.floating[Any]], f0: float, bin_hz: float) -> float | None:
    """Noise between the partials of one window against the partials, in dB; None where they leave nothing between them."""
    nearest = np.maximum(1, np.round(hz / f0))
    near = np.abs(hz - nearest * f0) <= np.maximum(2 * NEAR_BINS * bin_hz, NEAR_SHARE * nearest * f0)
    if (~near).sum() < 8:
        return None
    # The median of what noise leaves in a bin, as its mean: a lone resonance or a neighbour's ringing is no noise.
    floor = float(np.median(power[~near])) / np.log(2)
    tone = float(power[near].sum()) - floor * int(near.sum())
    return float(10 * np.log10(floor * len(power) / max(tone, 1e-12)))


def _far_pairs(times: npt.NDArray[np.float64], values: npt.NDArray[np.float64]) -> list[tuple[tuple[float, float], tuple[float, float]]]:
    """Pairs a third of the note apart and more (Theil-Sen, without pairs in which vibrato outweighs the slope)."""
    third = max(1, len(times) // 3)
    points = list(zip(times.tolist(), values.tolist(), strict=True))
    return [(points[i], points[j]) for i in range(len(points)) for j in range(i + third, len(points))]


def _first(
    right: Sequence[NoteResult], notes: Sequence[NoteResult], expected: dict[tuple[str, int], ExpectedNote]
) -> tuple[float | None, float | None]:
    """The level of the first note against the median of the next ones under the same dynamic."""
    if len(right) <= NEXT_NOTES or right[0] is not notes[0] or right[0].loudness_db is None:
        return None, None
    own = expected.get((right[0].id, right[0].pass_))
    following = [n for n in right[1:] if n.onset_s != right[0].onset_s][:NEXT_NOTES]
    same = [
        n.loudness_db
        for n in following
        if n.loudness_db is not None and own is not None and getattr(expected.get((n.id, n.pass_)), "dynamics", None) == own.dynamics
    ]
    return (float(right[0].loudness_db - np.median(same)), right[0].onset_s) if len(same) >= 3 else (None, None)


def _downbeats(right: Sequence[NoteResult], music: Expectation) -> float | None:
    """First beats against other beats, in dB; None for too few of either."""
    beat = {bar.number: bar.beat_quarters for bar in music.bars}
    on_beat = [n for n in right if n.loudness_db is not None and n.bar in beat and abs(n.beat / beat[n.bar] % 1) < 1e-6]
    first = [n.loudness_db for n in on_beat if n.beat < 1e-6 and n.loudness_db is not None]
    others = [n.loudness_db for n in on_beat if n.beat >= 1e-6 and n.loudness_db is not None]
    return float(np.median(first) - np.median(others)) if min(len(first), len(others)) >= FEWEST_BEATS else None


def _breaths(right: Sequence[NoteResult], notes: Sequence[NoteResult], expected: dict[tuple[str, int], ExpectedNote]) -> list[Breath]:
    """Silences between notes that follow one another without a rest."""
    order = {id(note): k for k, note in enumerate(notes)}
    found = []
    for before, after in pairwise(right):
        a, b = expected.get((before.id, before.pass_)), expected.get((after.id, after.pass_))
        if a is None or b is None or order[id(after)] != order[id(before)] + 1:
            continue
        written = b.onset_quarters - a.onset_quarters - a.duration_quarters
        silence = (after.onset_s or 0.0) - (before.offset_s or 0.0)
        if written < 1e-6 and silence >= BREATH_S and not {"staccato", "staccatissimo"} & set(a.articulations):
            found.append(Breath(bar=after.bar, beat=after.beat, seconds=silence, at_s=before.offset_s or 0.0, in_slur=a.slurred_to_next))
    return found


def _chords(samples: Samples, right: Sequence[NoteResult], expected: dict[tuple[str, int], ExpectedNote]) -> list[Balance]:
    """Chords of one hand with nothing struck beside them, whose notes have partials of their own."""
    at: dict[tuple[int, float], list[NoteResult]] = {}
    for note in right:
        known = expected.get((note.id, note.pass_))
        if known is not None:
            at.setdefault((note.pass_, known.onset_quarters), []).append(note)
    found = []
    for notes in at.values():
        if len({n.staff for n in notes}) != 1 or len(notes) < 2:
            continue
        lower, upper = min(notes, key=lambda n: n.sounding_midi), max(notes, key=lambda n: n.sounding_midi)
        if (upper.sounding_midi - lower.sounding_midi) % 12 in ON_PARTIALS:
            continue
        balance = _balance(samples, notes, lower, upper)
        if balance is not None:
            found.append(Balance(id=upper.id, bar=upper.bar, pass_=upper.pass_, at_s=upper.onset_s or 0.0, upper_db=balance))
    return found


def _balance(samples: Samples, notes: Sequence[NoteResult], lower: NoteResult, upper: NoteResult) -> float | None:
    """Energy of the upper note's own partials against the lower one's, in dB; None where they are not to be parted."""
    begin = max(n.onset_s or 0.0 for n in notes)
    part = samples[int((begin + CHORD_S[0]) * RATE_HZ) : int((begin + CHORD_S[1]) * RATE_HZ)]
    if len(part) < (CHORD_S[1] - CHORD_S[0]) * RATE_HZ * 0.9:
        return None
    size = 4 * len(part)
    power = np.abs(np.fft.rfft(part.astype(np.float64) * np.hanning(len(part)), size)) ** 2
    bin_hz, width_hz = RATE_HZ / size, 2.0 * RATE_HZ / len(part)
    partials = {n.id: 440.0 * 2 ** ((n.sounding_midi - 69) / 12) * np.arange(1, PARTIALS + 1) for n in notes}

    def energy(note: NoteResult) -> float | None:
        others = np.concatenate([hz for name, hz in partials.items() if name != note.id])
        own = [hz for hz in partials[note.id] if hz < BAND_HZ[1] and np.abs(others - hz).min() > 2 * width_hz]
        if not own:
            return None
        return sum(float(power[max(0, int((hz - width_hz) / bin_hz)) : int((hz + width_hz) / bin_hz) + 1].max()) for hz in own[:3])

    above, below = energy(upper), energy(lower)
    return None if not above or not below else float(10 * np.log10(above / below))
