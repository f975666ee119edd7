"""How far a held tone is from the one that was given: for tuning before playing, where what should sound is known.

Normalised autocorrelation near the expected period (Rabiner 1977), read between its samples by a parabola; the median of many short
windows leaves the attack and the breath before it out of account.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from didactor.core.instruments import Instrument
from didactor.core.sound.recording import RATE_HZ
from didactor.core.units import midi_to_hz, midi_to_name, name_to_midi

#: Windows hold so many periods, at least so long; they move on by a part of that.
PERIODS, SHORTEST_S, HOP_SHARE = 12, 0.09, 0.25
#: Further off than this it is another note; a tone repeats itself at least so well.
FURTHEST_CENTS, ALIKE = 160.0, 0.85
#: Windows quieter than this share of the loudest one are breath and echo; fewer than so many say nothing.
QUIET, FEWEST = 0.15, 5
#: The tone that winds tune to, sounding: A, or B flat for those in flat keys.
A4, B_FLAT = 69, 70


def tones_to_tune(instrument: Instrument) -> tuple[tuple[str, int], ...]:
    """What an instrument is tuned to: written name and sounding MIDI number, string by string where it has strings.

    Empty for what its player cannot tune before playing.
    """
    kind, _, tuning = instrument.fingering.partition(" ")
    if kind in ("strings", "frets") and tuning:
        sounding = [name_to_midi(name) + instrument.transposition for name in tuning.split()]
        return tuple((midi_to_name(midi - instrument.transposition), midi) for midi in sounding)
    if not instrument.pitched or not instrument.bends:
        return ()
    flat = instrument.transposition % 12 in (10, 3) or instrument.family == "brass"
    pitch = B_FLAT if flat else A4
    middle = (instrument.low + instrument.high) / 2
    midi = pitch + 12 * round((middle - pitch) / 12)
    return ((midi_to_name(midi - instrument.transposition), midi),)


def cents_off(samples: npt.NDArray[np.float32], midi: int) -> float | None:
    """Cents of a held tone above (below 0: below) ``midi``; None where no such tone is heard.

    Args:
        samples: mono at ``RATE_HZ``.
    """
    period = RATE_HZ / midi_to_hz(midi)
    size = int(max(PERIODS * period, SHORTEST_S * RATE_HZ))
    widest = period * 2 ** (FURTHEST_CENTS / 1200)
    nearest = period * 2 ** (-FURTHEST_CENTS / 1200)
    lags = np.arange(int(nearest) - 1, int(widest) + 3)
    starts = range(0, len(samples) - size - int(lags[-1]) - 1, max(1, int(HOP_SHARE * size)))
    levels = [float(np.sqrt(np.mean(np.square(samples[s : s + size])))) for s in starts]
    loudest = max(levels, default=0.0)
    found = []
    for start, level in zip(starts, levels, strict=True):
        if loudest < 1e-4 or level < QUIET * loudest:
            continue
        lag = _period(samples, start, size, lags)
        if lag is not None and nearest <= lag <= widest:
            found.append(1200 * np.log2(period / lag))
    return float(np.median(found)) if len(found) >= FEWEST else None


def _period(samples: npt.NDArray[np.float32], start: int, size: int, lags: npt.NDArray[np.int_]) -> float | None:
    """The lag at which a window repeats itself best, between samples; None where it does not."""
    window = samples[start : start + size].astype(np.float64)
    own = float(window @ window)
    values = []
    for lag in lags:
        later = samples[start + lag : start + lag + size].astype(np.float64)
        values.append(float(window @ later) / max(1e-12, np.sqrt(own * float(later @ later))))
    best = int(np.argmax(values))
    if values[best] < ALIKE or not 0 < best < len(values) - 1:
        return None
    before, at, after = values[best - 1 : best + 2]
    bend = before - 2 * at + after
    return float(lags[best] + (0.5 * (before - after) / bend if bend else 0.0))
