"""A metronome that can be heard in the room, found and taken out before anything is heard.

A metronome repeats itself to the sample, music does not. So the stretches at its beats are laid over each other: what is common to
them is the click, its waveform; what differs is the playing. Periodic playing alone does not pass, because its stretches do not
resemble each other. The click is then subtracted wherever it is found, with the strength it has there.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, next_fast_len, rfft

from didactor.core.arrays import FloatArray
from didactor.core.peaks import vertex
from didactor.core.sound.recording import RATE_HZ

#: Clicks are looked for above this; music below would drown them.
HIGH_PASS_HZ = 800.0
LENGTH_S, BEFORE_S = 0.09, 0.006
#: A known click may come later (through air and devices) or a little earlier than its time says.
EARLIEST_S, LATEST_S, COARSE_S = -0.1, 0.4, 0.003
#: Further than this from the common lag no click is looked for; each one's own place is found within it.
WANDER_S = 0.004
#: The median resemblance of the stretches to what is common to them that makes a click, and that of one stretch.
ALIKE, ONE_ALIKE = 0.4, 0.3
#: Of its first third, the last third of a click has at most this level.
TAIL_SHARE = 0.25
#: A click sounds alone where subtracting it leaves less than this share of the energy.
ALONE_SHARE = 0.15
FEWEST = 5
#: A count-off alone may have fewer clicks than that. Known ones suffice when they resemble each other so much.
FEWEST_KNOWN, FEW_ALIKE = 2, 0.6
STRONGEST = 2.5
#: A count-off known by its rhythm: rises within so many steps, by so much; at one delay, about equally loud, nothing else as loud between.
RISE_FRAMES, SHARP_DB, ONE_RHYTHM_S, ALIKE_DB, STRAY_DB = 3, 12.0, 0.012, 8.0, 6.0
#: Stretches that resemble each other less than this at first have nothing in common.
ITERATIONS, HOPELESS = 3, 0.2


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Clicks:
    """``times_s``: where clicks were taken out. ``samples``: the sound without them, the very same array where none were found."""

    samples: npt.NDArray[np.float32]
    times_s: tuple[float, ...]


def without_clicks(samples: npt.NDArray[np.float32], known_s: tuple[float, ...], period_s: float | None) -> Clicks:
    """Take an audible metronome out of a recording.

    Args:
        samples: mono at ``RATE_HZ``.
        known_s: times at which the recorder sounded clicks; empty where it does not know.
        period_s: the beat at which a metronome may run besides, its phase unknown; None for no search.
    """
    nothing = Clicks(samples=samples, times_s=())
    duration_s = len(samples) / RATE_HZ
    if duration_s < 2 * LENGTH_S:
        return nothing
    high = _above(HIGH_PASS_HZ, samples)
    energy = _energy(high)
    fewest = FEWEST
    if len(known_s) >= FEWEST_KNOWN:
        grid, lags = np.array(known_s), np.arange(EARLIEST_S, LATEST_S, COARSE_S)
        fewest = min(FEWEST, len(known_s))
    elif period_s is not None and duration_s > FEWEST * period_s:
        grid, lags = np.arange(0.0, duration_s - LENGTH_S, period_s), np.arange(0.0, period_s, COARSE_S)
    else:
        return nothing
    for lag in _likely(energy, grid, lags, fewest):
        found = _common(high, grid + lag, fewest)
        if len(found.places) >= fewest and np.median(found.alike) >= (ALIKE if fewest == FEWEST else FEW_ALIKE) and _is_short(found.common):
            return _subtract(samples, high, found)
    return nothing


def count_off_delay_s(samples: npt.NDArray[np.float32], known_s: tuple[float, ...]) -> float | None:
    """How late a count-off sounds in a recording, seconds, by its rhythm alone; None where it cannot be heard.

    Rooms and devices may change a click from one to the next so that no waveform is common to them. But nobody plays yet: what
    rises sharply at every known time, all with one delay and about equally loud, with nothing like it between, is the count-off.
    """
    if len(known_s) < FEWEST_KNOWN or len(samples) < RATE_HZ // 2:
        return None
    high = _above(HIGH_PASS_HZ, samples)
    level_db = 20 * np.log10(_energy(high) + 1e-6)
    before = np.pad(level_db, (RISE_FRAMES, 0), constant_values=level_db[0])[: len(level_db)]
    rise_db = level_db - before
    peaks = np.flatnonzero((rise_db > SHARP_DB) & (rise_db >= np.roll(rise_db, 1)) & (rise_db > np.roll(rise_db, -1)))
    times = peaks * COARSE_S
    known = np.array(known_s)
    for late_s in np.unique(np.round(times[:, None] - known[None, :1], 4)).tolist():
        if not EARLIEST_S <= late_s <= LATEST_S:
            continue
        nearest = np.array([np.argmin(np.abs(times - t - late_s)) for t in known])
        if np.abs(times[nearest] - known - late_s).max() > ONE_RHYTHM_S:
            continue
        loud_db = np.array([level_db[p : p + 2 * RISE_FRAMES].max() for p in peaks])
        own_db = loud_db[nearest]
        inside = (times > times[nearest[0]] - LENGTH_S) & (times < times[nearest[-1]] + LENGTH_S)
        stray = [k for k in np.flatnonzero(inside) if np.abs(times[nearest] - times[k]).min() > LENGTH_S]
        if np.ptp(own_db) < ALIKE_DB and all(loud_db[k] < own_db.min() - STRAY_DB for k in stray):
            return float(np.median(times[nearest] - known))
    return None


def _above(hz: float, samples: npt.NDArray[np.float32]) -> FloatArray:
    """What sounds above a frequency, without delay: the gain of a second-order Butterworth filter run forward and back."""
    size = next_fast_len(len(samples) + RATE_HZ // 10, real=True)
    share = np.fft.rfftfreq(size, 1 / RATE_HZ) / hz
    return np.asarray(irfft(rfft(samples, size) * (share**4 / (1 + share**4)).astype(np.float32), size)[: len(samples)], dtype=float)


def _energy(high: FloatArray) -> FloatArray:
    """Level in steps of ``COARSE_S``, root mean square."""
    hop = int(COARSE_S * RATE_HZ)
    return np.asarray(np.sqrt(np.square(high[: len(high) // hop * hop]).reshape(-1, hop).mean(axis=1)))


def _likely(energy: FloatArray, grid: FloatArray, lags: FloatArray, fewest: int) -> list[float]:
    """The few lags at which the level rises at most beats, the likeliest first."""
    rise = np.log((energy[2:] + 1e-6) / (energy[:-2] + 1e-6))
    frames = np.round((grid[None, :] + lags[:, None]) / COARSE_S).astype(int)
    inside = (frames >= 0) & (frames < len(rise))
    values = np.where(inside, rise[np.clip(frames, 0, len(rise) - 1)], np.nan)
    usable = inside.sum(axis=1) >= fewest
    middle = np.full(len(lags), -np.inf)
    middle[usable] = np.nanmedian(values[usable], axis=1)
    best: list[float] = []
    for index in np.argsort(middle)[::-1].tolist():
        if not np.isfinite(middle[index]) or len(best) == 3:
            break
        if all(abs(lags[index] - b) > 4 * COARSE_S for b in best):
            best.append(float(lags[index]))
    return best


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Found:
    """Where each stretch begins (samples, and parts of one), what is common to all, how much each resembles that (-1..1)."""

    places: npt.NDArray[np.int64]
    parts: FloatArray
    common: FloatArray
    alike: FloatArray


def _shifted(wave: FloatArray, samples: float) -> FloatArray:
    """A wave moved by a part of a sample: half a sample would leave a fifth of a high click standing."""
    turn = np.exp(-2j * np.pi * np.fft.rfftfreq(len(wave)) * samples)
    return np.asarray(np.fft.irfft(np.fft.rfft(wave) * turn, len(wave)))


def _common(high: FloatArray, times: FloatArray, fewest: int) -> _Found:
    length, before, wander = int(LENGTH_S * RATE_HZ), int(BEFORE_S * RATE_HZ), int(WANDER_S * RATE_HZ)
    places = np.round(times * RATE_HZ).astype(np.int64) - before
    places = places[(places >= wander) & (places + length + wander <= len(high))]
    parts = np.zeros(len(places))
    if len(places) < fewest:
        return _Found(places=places, parts=parts, common=np.zeros(length), alike=np.zeros(0))
    stretches = np.array([high[p : p + length] for p in places])
    # The quietest stretches are the ones with the least playing in them.
    order = np.argsort(np.square(stretches).sum(axis=1))
    common = stretches[order[0]]
    alike = np.zeros(len(places))
    for _ in range(ITERATIONS):
        norm = float(np.sqrt(np.square(common).sum())) + 1e-12
        for k, place in enumerate(places.tolist()):
            wide = high[place - wander : place + length + wander]
            match = np.correlate(wide, common, mode="valid")
            at = int(np.argmax(match))
            places[k] = np.clip(place - wander + at, wander, len(high) - length - wander)
            if 0 < at < len(match) - 1:
                parts[k] = vertex(*match[at - 1 : at + 2])
            piece = high[places[k] : places[k] + length]
            alike[k] = match[at] / (norm * (float(np.sqrt(np.square(piece).sum())) + 1e-12))
        # Of few stretches, the one that all are laid over would count too much.
        others = np.delete(alike, order[0]) if len(alike) < FEWEST else alike
        if np.median(others) < HOPELESS:
            break
        stretches = np.array([_shifted(high[p : p + length], -part) for p, part in zip(places.tolist(), parts.tolist(), strict=True)])
        sure = stretches[alike >= min(ONE_ALIKE, float(np.median(alike)))]
        # Each counts alike, loud or soft; the median leaves out what only some of them hold.
        scale = np.sqrt(np.square(sure).sum(axis=1, keepdims=True)) + 1e-12
        common = np.median(sure / scale, axis=0) * float(np.median(scale))
    if len(places) < FEWEST:
        alike = _alike_each_other(high, places, length)
    return _Found(places=places, parts=parts, common=common, alike=alike)


def _alike_each_other(high: FloatArray, places: npt.NDArray[np.int64], length: int) -> FloatArray:
    """How much each of few stretches resembles the others (their median; -1..1): none is compared with what it is a part of."""
    stretches = np.array([high[p : p + length] for p in places])
    stretches /= np.sqrt(np.square(stretches).sum(axis=1, keepdims=True)) + 1e-12
    return np.array([float(np.median(np.delete(row, k))) for k, row in enumerate(stretches @ stretches.T)])


def _is_short(common: FloatArray) -> bool:
    """A click has died away within a tenth of a second; a note struck on every beat has not."""
    third = len(common) // 3
    head, tail = (float(np.sqrt(np.square(part).mean())) for part in (common[:third], common[-third:]))
    return tail < TAIL_SHARE * head


def _subtract(samples: npt.NDArray[np.float32], high: FloatArray, found: _Found) -> Clicks:
    result = np.array(samples, dtype=np.float32)
    power = float(np.square(found.common).sum()) + 1e-12
    taken = []
    for place, part, likeness in zip(found.places.tolist(), found.parts.tolist(), found.alike.tolist(), strict=True):
        if likeness < ONE_ALIKE:
            continue
        click = _shifted(found.common, part)
        strength = float(np.clip(high[place : place + len(click)] @ click / power, 0.0, STRONGEST))
        piece = high[place : place + len(click)]
        rest = piece - strength * click
        # Where nothing else sounds, what is left of a click is its misfit.
        alone = float(np.square(rest).sum()) < ALONE_SHARE * float(np.square(piece).sum())
        result[place : place + len(click)] -= (piece if alone else strength * click).astype(np.float32)
        taken.append(place / RATE_HZ + BEFORE_S)
    return Clicks(samples=result, times_s=tuple(taken))
