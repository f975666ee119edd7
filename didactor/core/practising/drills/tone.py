"""One tone that was asked for, heard at once: whether it is the one."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from didactor.core.hearing.features import F0_HOP_S, listen
from didactor.core.instruments import Instrument
from didactor.core.practising.change import Change
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.drills.drill import Prompt
from didactor.core.practising.drills.find_it import heard_as
from didactor.core.practising.verdict import Verdict
from didactor.core.sound.recording import RATE_HZ
from didactor.core.words import _, worded

#: A tone is one that stays within so many semitones for so long, clearly voiced and not much quieter than the loudest of the sound.
STAYS_SEMITONES, STAYS_S, VOICED, QUIETER_DB, LOWEST_DB = 0.35, 0.3, 0.7, 18.0, -50.0
#: It is the right one up to so many semitones away: a child's instrument need not be in tune.
RIGHT_WITHIN = 0.6
#: Nothing found so long is nothing played.
LONGEST_S = 12.0
NOTHING_FOUND = Verdict(outcome=Outcome.UNSURE, says=_("Nothing was heard. Take your time; press when you have found it."), code="nothing")


def found(samples: npt.NDArray[np.float32], prompt: Prompt, instrument: Instrument) -> Verdict | None:
    """What was played when one thing was asked for; None while nothing steady has sounded yet.

    Args:
        samples: mono at ``RATE_HZ``, all there is so far.
    """
    midi = steady_tone(samples, instrument)
    if midi is None:
        return NOTHING_FOUND if len(samples) / RATE_HZ >= LONGEST_S else None
    right = abs(midi - prompt.midi) <= RIGHT_WITHIN
    change = Change(before="", after=prompt.name, late_s=None, right=right)
    if right:
        return Verdict(outcome=Outcome.CLEAN, says=worded("Yes: {name}.", name=prompt.name), changes=(change,))
    return Verdict(outcome=Outcome.FAULT, says=heard_as(midi, prompt, instrument.transposition), code="find.wrong", changes=(change,))


def steady_tone(samples: npt.NDArray[np.float32], instrument: Instrument) -> float | None:
    """The first tone that stays, as a MIDI number with its cents; None where there is none."""
    peak = float(np.abs(samples).max()) if len(samples) else 0.0
    if len(samples) < STAYS_S * RATE_HZ or 20 * np.log10(max(peak, 1e-6)) < LOWEST_DB:
        return None
    features = listen(samples, instrument)
    level = np.array([features.level_db[features.flux_index(k * F0_HOP_S)] for k in range(len(features.f0_midi))])
    loud = level > float(level.max()) - QUIETER_DB
    wanted = round(STAYS_S / F0_HOP_S)
    run: list[float] = []
    for pitch, voicing, sounds in zip(features.f0_midi.tolist(), features.voicing.tolist(), loud.tolist(), strict=True):
        if voicing < VOICED or not sounds or not np.isfinite(pitch):
            run = []
            continue
        run.append(pitch)
        if abs(pitch - float(np.median(run))) > STAYS_SEMITONES:
            run = [pitch]
        if len(run) >= wanted:
            return float(np.median(run))
    return None
