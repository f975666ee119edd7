"""What the parts share: music, instruments and rooms."""

from __future__ import annotations

import numpy as np
import soxr
from melodies import melody, two_hands

from didactor.core.instruments import BY_SLUG
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.recording import RATE_HZ, Recording

INSTRUMENTS = ("flute", "clarinet", "violin", "trumpet", "piano", "guitar", "cello", "alto-saxophone", "piano")
ROOMS = ("bedroom", "kitchen", "classroom")
SOURCES = ("timgm", "additive")


def music(rng: np.random.Generator, slug: str, seed: int) -> Expectation:
    bars = int(rng.choice([1, 2, 2, 4]))
    return two_hands(seed, bars=bars) if slug == "piano" else melody(BY_SLUG[slug], seed, bars, "motifs" if seed % 2 else "steps")


def recording(samples: np.ndarray) -> Recording:
    return Recording(samples=np.clip(soxr.resample(samples, SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32))
