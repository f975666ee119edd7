"""A second look at doubtful places of one voice: another network, the spectrum and the fundamental are asked together.

The note model is slow, so it hears only the two seconds around a doubt. Weights (``presence_one.json``) are fitted by
``bench/fit_presence`` as for many voices.
"""

from __future__ import annotations

from functools import cached_property
from pathlib import Path

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.hearing.features import Features
from didactor.core.hearing.note_model import LOWEST_MIDI, Posteriors
from didactor.core.hearing.presence import AFTER_S, BEFORE_S, FEATURES, Evidence, Model, features_of, onset_near
from didactor.core.hearing.spectrum import Spectrum, spectrum

#: The note model needs this much sound on either side of a question to hear what it hears in a whole take.
AROUND_S = 0.45
#: An onset posterior below this is no onset.
HEARD_ONSET = 0.25
NEAR_SEMITONES = 0.5
MODEL = Model(path=Path(__file__).with_name("presence_one.json"), names=(*FEATURES, "f0_share", "f0_octave_share", "f0_before", "voiced"))
#: The take's own medians are not known for one voice without hearing all of it: a usual value stands for them.
USUAL = 0.8


class SecondOpinion:
    """Asked about keys at times of one take."""

    def __init__(self, features: Features, tuning_cents: float) -> None:
        self.features, self.tuning_cents = features, tuning_cents

    @cached_property
    def posteriors(self) -> Posteriors:
        return Posteriors(self.features.samples, self.tuning_cents)

    @cached_property
    def spectrum(self) -> Spectrum:
        return spectrum(self.features.magnitudes)

    def odds(self, midi: int, time_s: float, duration_s: float) -> float:
        """Log odds that a key was struck (a tone begun) about this time, from evidence alone."""
        return float(MODEL.log_odds(self.row(midi, time_s, duration_s)[None])[0])

    def hears(self, midi: int, time_s: float) -> bool:
        """Whether the note model alone hears this key, or its octave, begin about then; for many questions at once."""
        self.posteriors.ensure(time_s - BEFORE_S, time_s + AFTER_S)
        return max(onset_near(self.posteriors, midi - LOWEST_MIDI + octave, time_s) for octave in (0, 12, -12)) >= HEARD_ONSET

    def row(self, midi: int, time_s: float, duration_s: float) -> FloatArray:
        """What the model looks at; see ``MODEL.names``."""
        self.posteriors.ensure(time_s - AROUND_S, time_s + AROUND_S)
        evidence = Evidence(
            posteriors=self.posteriors,
            spectrum=self.spectrum,
            tuning_cents=self.tuning_cents,
            typical_onset=USUAL,
            typical_sounding=USUAL,
        )
        until = time_s + min(0.3, max(0.08, 0.8 * duration_s))
        away = self._away(midi, time_s + 0.02, until)
        before = self._away(midi, time_s - 0.12, time_s - 0.03)
        first, last = self.features.f0_index(time_s + 0.02), self.features.f0_index(until)
        extra = [
            float((np.abs(away) < NEAR_SEMITONES).mean()),
            float((np.abs(np.abs(away) - 12) < NEAR_SEMITONES).mean()),
            float((np.abs(before) < NEAR_SEMITONES).mean()),
            float(self.features.voicing[first : last + 1].mean()),
        ]
        return np.concatenate([features_of(evidence, midi, time_s, duration_s, frozenset()), extra])

    def _away(self, midi: int, first_s: float, last_s: float) -> FloatArray:
        """Distance of the fundamental from a key in voiced frames between two times, semitones; 99 where unvoiced."""
        first, last = self.features.f0_index(first_s), self.features.f0_index(last_s)
        pitch = self.features.f0_midi[first : last + 1] - self.tuning_cents / 100 - midi
        return np.asarray(np.where(self.features.voicing[first : last + 1] > 0.5, pitch, 99.0))
