"""The names of notes said in time with the music, by the program espeak-ng: the first help, and the first to be taken away."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Sequence
from functools import cache

import numpy as np
import soxr

from didactor.core.errors import CoreError
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ, Samples
from didactor.core.sound.player.take import wav_bytes
from didactor.core.sound.wave import read_wave
from didactor.core.words import worded

#: Which voice says the names of a naming; letters and numbers are English.
VOICES = {"german": "de", "fixed_do": "it", "movable_do": "it"}
USUAL_VOICE = "en-gb"
#: Who reads sentences in which language.
READERS = {"de": "de"}
#: Signs as they are said.
SAID = {"♯♯": " double sharp", "𝄪": " double sharp", "♭♭": " double flat", "♯": " sharp", "♭": " flat"}
WORDS_PER_MINUTE = "210"
#: A name begins to count where its level first reaches this share of its loudest; it ends before the next one begins.
BEGINS_AT, FADE_S, LONGEST_S = 0.4, 0.02, 0.8


def say_names(onsets_s: Sequence[float], names: Sequence[str], length_s: float, naming: str = "letters") -> Samples:
    """Names said so that each one's weight falls on its onset; mono at ``SYNTH_RATE_HZ``, peak 0.7.

    Raises:
        CoreError: the program is not installed.
    """
    voice = VOICES.get(naming, USUAL_VOICE)
    sound = np.zeros(int(length_s * SYNTH_RATE_HZ))
    for index, (onset_s, name) in enumerate(zip(onsets_s, names, strict=True)):
        wave, lead = _said(name, voice)
        later_s = onsets_s[index + 1] - onset_s if index + 1 < len(onsets_s) else LONGEST_S
        piece = wave[: lead + int(0.95 * max(0.1, later_s) * SYNTH_RATE_HZ)].copy()
        fade = min(len(piece), int(FADE_S * SYNTH_RATE_HZ))
        piece[len(piece) - fade :] *= np.linspace(1, 0, fade)
        start = max(0, int(onset_s * SYNTH_RATE_HZ) - lead)
        end = min(len(sound), start + len(piece))
        sound[start:end] += piece[: max(0, end - start)]
    return np.asarray(sound / max(float(np.abs(sound).max()), 1e-6) * 0.7, dtype=np.float32)


#: So much is said at most: a few sentences.
LONGEST_WORDS = 800


def say_words(text: str, language: str = "en") -> bytes:
    """A few sentences, as a WAV file, for those who do not read yet. Raises ``CoreError`` where the program is not installed."""
    _check_speaker()
    words = " ".join(text.split())[:LONGEST_WORDS]
    said = subprocess.run(
        ["espeak-ng", "-v", READERS.get(language, USUAL_VOICE), "-s", "140", "--stdout", "--", words],
        check=True,
        capture_output=True,
        timeout=60,
    )
    rate_hz, samples = read_wave(said.stdout)
    return wav_bytes(samples, rate_hz)


def _check_speaker() -> None:
    if shutil.which("espeak-ng") is None:
        raise CoreError(
            "sound.no_speaker", worded("The program espeak-ng is not installed. Run bin/start or bin/test once; they install it.")
        )


@cache
def _said(name: str, voice: str) -> tuple[Samples, int]:
    """One name, and the sample at which its weight falls."""
    _check_speaker()
    words = name
    for sign, said in SAID.items():
        words = words.replace(sign, said)
    # What somebody has typed as a name is never an option of the program.
    spoken = subprocess.run(
        ["espeak-ng", "-v", voice, "-s", WORDS_PER_MINUTE, "--stdout", "--", words], check=True, capture_output=True, timeout=60
    )
    rate_hz, samples = read_wave(spoken.stdout)
    wave = soxr.resample(samples, rate_hz, SYNTH_RATE_HZ).astype(np.float32)
    level = np.convolve(np.abs(wave), np.ones(400) / 400, "same")
    lead = int(np.argmax(level >= BEGINS_AT * level.max(initial=1e-9)))
    return wave / max(float(np.abs(wave).max(initial=0.0)), 1e-6), lead
