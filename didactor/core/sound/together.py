"""Takes of one passage put together: each bent, moment by moment, to one tempo at its own pitch, made equally loud, placed and mixed.

The bending is rubberband's coarser engine with a map of times: measured on takes of our own it puts moments within 3 ms of where they are
to be, 20 to 27 ms in one of twenty; the finer engine lags behind such a map.
"""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy.io import wavfile

from didactor.core.errors import CoreError
from didactor.core.sound.level import loudness_lufs
from didactor.core.sound.stretch import LONGEST_RUN_S, stretcher_missing
from didactor.core.sound.wave import read_wave
from didactor.core.words import worded

#: Quarters and the second at which they were heard, both ascending.
Anchors = Sequence[tuple[float, float]]
#: Everything begins so long after the beginning; a take sounds from so long before its first moment and after its last one.
LEAD_S, BEFORE_S, AFTER_S = 0.5, 0.3, 1.5
#: Moments nearer together than this are one: two places of the map would pull against each other.
NEAREST_S = 0.12
#: A stretch is bent no further than this: a pause of seconds may be pressed into a beat, a note is drawn out to no more than thrice.
SLOWEST, QUICKEST = 3.0, 0.05
#: Fewer moments are no map.
FEWEST = 4
#: One take's loudness before mixing, LUFS; of the mix no sample is above the peak.
LEVEL_LUFS, PEAK = -23.0, 0.89
#: Takes are placed from left to right within this share of the whole width.
WIDTH = 0.7


@dataclass(frozen=True, slots=True, kw_only=True)
class Voice:
    """One take: mono sound and when each moment of the score was heard in it."""

    samples: npt.NDArray[np.float32]
    anchors: Anchors


def map_of(anchors: Anchors, quarter_s: float) -> list[tuple[float, float]]:
    """Seconds of a take and the seconds at which they are to sound, ascending. Raises ``CoreError`` for too few moments."""
    kept: list[tuple[float, float]] = []
    for quarters, at_s in anchors:
        target = LEAD_S + quarters * quarter_s
        if not kept:
            kept.append((at_s, target))
            continue
        span, wanted = at_s - kept[-1][0], target - kept[-1][1]
        if span < NEAREST_S or wanted < NEAREST_S or not QUICKEST <= wanted / span <= SLOWEST:
            continue
        kept.append((at_s, target))
    if len(kept) < FEWEST:
        raise CoreError("together.too_few", worded("Too little of it was heard to put it together with others."))
    return kept


def bent(voice: Voice, rate_hz: int, quarter_s: float) -> npt.NDArray[np.float32]:
    """A take in the time of the band, which begins at 0. Raises ``CoreError``."""
    stretcher_missing()
    places = map_of(voice.anchors, quarter_s)
    start_s, end_s = max(0.0, places[0][0] - BEFORE_S), min(len(voice.samples) / rate_hz, places[-1][0] + AFTER_S)
    begins_s = places[0][1] - (places[0][0] - start_s)
    cut = voice.samples[int(start_s * rate_hz) : int(end_s * rate_hz)]
    length_s = (places[-1][1] - begins_s) + (end_s - places[-1][0])
    lines = [(0, 0), *((round((a - start_s) * rate_hz), round((b - begins_s) * rate_hz)) for a, b in places)]
    with tempfile.TemporaryDirectory() as folder:
        given, made, times = Path(folder) / "given.wav", Path(folder) / "made.wav", Path(folder) / "times"
        wavfile.write(given, rate_hz, np.round(np.clip(cut, -1, 1) * 32767).astype(np.int16))
        times.write_text("".join(f"{source} {target}\n" for source, target in dict(lines).items()))
        subprocess.run(
            ["rubberband", "--quiet", "-2", "--timemap", str(times), "--duration", f"{length_s:.6f}", str(given), str(made)],
            check=True,
            capture_output=True,
            timeout=LONGEST_RUN_S,
        )
        sound = read_wave(made.read_bytes())[1]
    before = round(begins_s * rate_hz)
    return np.concatenate([np.zeros(before, np.float32), sound]) if before >= 0 else sound[-before:]


def mixed(bent_takes: Sequence[npt.NDArray[np.float32]], rate_hz: int) -> npt.NDArray[np.float32]:
    """All of them at once, equally loud, from left to right (constant power). Returns ``shape=(2, samples)``; silence for none."""
    length = max((len(take) for take in bent_takes), default=0)
    out = np.zeros((2, length), dtype=np.float32)
    for k, take in enumerate(bent_takes):
        loud = loudness_lufs(take, rate_hz)
        gain = 10 ** ((LEVEL_LUFS - loud) / 20) if loud is not None else 1.0
        place = 0.0 if len(bent_takes) == 1 else WIDTH * (2 * k / (len(bent_takes) - 1) - 1)
        angle = (place + 1) * np.pi / 4
        out[0, : len(take)] += gain * np.cos(angle) * take
        out[1, : len(take)] += gain * np.sin(angle) * take
    peak = float(np.abs(out).max(initial=0.0))
    return out if peak <= PEAK else out * (PEAK / peak)
