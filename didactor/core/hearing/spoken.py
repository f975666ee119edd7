"""The ear for names said in time: how a voice keeps its pace, and where it stops. Which names are said is not listened to.

A syllable is a rise of the voice's band over what came just before it. A name may have one syllable or two (“F sharp”), and in quick
notes some are swallowed: syllables too many and too few cost little, the intervals decide. A syllable has no sharp beginning, so
no note is called early or late by it; the pulse through all of them gives the tempo and the pauses.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.ndimage import gaussian_filter1d, maximum_filter1d, minimum_filter1d

from didactor.core.arrays import FloatArray
from didactor.core.hearing.alignment import Material, align
from didactor.core.hearing.features import FLUX_HOP_S, FLUX_WINDOW, short_time
from didactor.core.hearing.groups import Moment, moments_of
from didactor.core.hearing.hearing import Hearing, NoteHeard, Status
from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.sound.recording import RATE_HZ
from didactor.core.words import _

NOT_LISTENED_TO = _("of names said in time only the pace is listened to")
#: The band that carries vowels (hissing lies above it).
LOW_HZ, HIGH_HZ = 250.0, 3400.0
#: Smoothing of the band's level, and the least rise of a syllable over the dip before it, dB.
SMOOTH_S, RISE_DB = 0.016, 5.0
#: A dip is looked for so long before a syllable; syllables follow one another no quicker than so.
DIP_S, CLOSE_S = 0.16, 0.11
#: What lies so far below the voice's usual level is the room.
BELOW_USUAL_DB = 22.0
MISSED_COST, EXTRA_COST, INTERVAL_SHARE = 1.5, 0.5, 1.4
#: Nobody is taken to have gone back in the score by intervals this loose.
JUMP_COST = 50.0
#: Fewer syllables than this share of the names: nothing is made of the take.
ENOUGH, ENOUGH_SYLLABLES = 0.6, 4


def hear(samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument) -> Hearing | None:
    """Hear the pace of a voice. Returns None where there is hardly any voice.

    Args:
        samples: mono at ``RATE_HZ``.
        seconds_per_quarter: the target tempo, a first guess.
    """
    syllables = find_syllables(samples)
    moments = moments_of(expectation)
    if len(syllables) < min(ENOUGH_SYLLABLES, len(moments)):
        return None
    alignment = align(_material(syllables, moments), seconds_per_quarter)
    notes = [NoteHeard(status=Status.UNCERTAIN, confidence=0.4, reason=NOT_LISTENED_TO)] * len(expectation.notes)
    if len(alignment.matches) >= ENOUGH * len(moments):
        for match in alignment.matches:
            for index in moments[match.note].notes:
                onset_s = float(syllables[match.event])
                notes[index] = NoteHeard(status=Status.UNCERTAIN, confidence=0.6, reason=NOT_LISTENED_TO, onset_s=onset_s, timed=True)
    return Hearing(
        notes=tuple(notes),
        extra=(),
        jumps=(),
        seconds_per_quarter=alignment.seconds_per_quarter,
        share_of_notes=1.0,
        share_of_sounds=1.0,
    )


def find_syllables(samples: npt.NDArray[np.float32]) -> FloatArray:
    """Where the vowels of a voice begin, in seconds."""
    frequencies = np.arange(FLUX_WINDOW // 2 + 1) * RATE_HZ / FLUX_WINDOW
    band = (frequencies >= LOW_HZ) & (frequencies <= HIGH_HZ)
    power = np.square(short_time(samples)[:, band]).sum(axis=1)
    if len(power) < 30:
        return np.zeros(0)
    level = 10 * np.log10(gaussian_filter1d(power, SMOOTH_S / FLUX_HOP_S) + 1e-9)
    usual = float(np.percentile(level, 90))
    level = np.maximum(level, usual - BELOW_USUAL_DB)
    back = int(DIP_S / FLUX_HOP_S)
    rise = np.zeros(len(level))
    lag = int(0.05 / FLUX_HOP_S)
    rise[lag:] = level[lag:] - level[:-lag]
    rise = np.roll(rise, -(lag // 2))
    peaks = np.flatnonzero((rise == maximum_filter1d(rise, 2 * int(0.5 * CLOSE_S / FLUX_HOP_S) + 1)) & (rise > 0.5 * RISE_DB))
    dips = minimum_filter1d(level, back, origin=(back - 1) // 2)
    tops = maximum_filter1d(level, back, origin=-((back - 1) // 2))
    found: list[float] = []
    for peak in peaks.tolist():
        if tops[peak] - dips[peak] < RISE_DB:
            continue
        time_s = peak * FLUX_HOP_S
        if not found or time_s - found[-1] >= CLOSE_S:
            found.append(time_s)
    return np.array(found)


def _material(syllables: FloatArray, moments: list[Moment]) -> Material:
    return Material(
        times=syllables,
        extra=np.full(len(syllables), EXTRA_COST),
        soft=np.zeros(len(syllables), dtype=bool),
        quarters=np.array([m.quarters for m in moments]),
        missed=np.full(len(moments), MISSED_COST),
        untimed=np.zeros(len(moments), dtype=bool),
        bar_start=np.array([m.bar_start for m in moments]),
        pair=np.zeros((len(syllables), len(moments))),
        interval_weight=INTERVAL_SHARE,
        jump_cost=JUMP_COST,
    )
