"""A voice that says the names of notes: a small formant synthesiser (source and filter; Fant 1960, Klatt 1980).

What a name needs: a vowel of glottal pulses through three resonances, and consonants of noise or voice before and after it. The beat
falls on the beginning of the vowel, which is where listeners hear a syllable (its P-centre; Morton, Marcus & Frankish 1976).
"""

from __future__ import annotations

import io
import shutil
import subprocess
from collections.abc import Callable, Sequence
from functools import cache

import numpy as np
import numpy.typing as npt
import soxr
from scipy.io import wavfile
from scipy.signal import lfilter

from didactor.core.errors import CoreError
from didactor.core.sound.player.performance import PerformedNote
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ, Samples
from didactor.core.words import worded

Wave = npt.NDArray[np.float64]

#: First three resonances in Hz (Peterson & Barney 1952, rounded); a pair where the vowel glides.
VOWELS = {
    "i": ((280, 2250, 2900), (280, 2250, 2900)),
    "e": ((550, 1800, 2500), (550, 1800, 2500)),
    "ei": ((520, 1850, 2500), (330, 2150, 2700)),
    "a": ((720, 1150, 2450), (700, 1150, 2450)),
    "ae": ((680, 1700, 2400), (660, 1650, 2400)),
}
BANDWIDTHS_HZ = (70.0, 100.0, 140.0)
#: Consonants: length in seconds, band of the noise in Hz, level against the vowel; voiced ones hum below.
NOISES = {
    "s": (0.11, (4200, 7800), 0.16),
    "f": (0.08, (1400, 7500), 0.05),
    "sh": (0.10, (1900, 5200), 0.16),
    "j": (0.06, (1900, 5600), 0.13),
    "d": (0.015, (2500, 5500), 0.16),
    "b": (0.012, (300, 1600), 0.16),
    "p": (0.014, (500, 2000), 0.12),
    "t": (0.020, (3000, 6500), 0.14),
}
#: Before the vowel, the vowel, after it.
NAMES = {
    "A": ("", "ei", ""), "B": ("b", "i", ""), "C": ("s", "i", ""), "D": ("d", "i", ""), "E": ("", "i", ""),
    "F": ("", "e", "f"), "G": ("j", "i", ""), "#": ("sh", "a", "p"), "b": ("f", "ae", "t"),
}  # fmt: skip
ESPEAK = "espeak"
ESPEAK_VOICES = ("en-gb+m3", "en-us+f2", "en-gb+f4", "en-us+m7", "en-gb-scotland+f3")
#: A sign is said where a note leaves time for two syllables; nobody says one in less.
TWO_SYLLABLES_S = 0.5
#: Share of the time to the next name that is filled, and the longest and shortest vowel.
FILLED, LONGEST_S, SHORTEST_S = 0.62, 0.38, 0.09


def speak(notes: Sequence[PerformedNote], names: Sequence[str], length: int, seed: int, source: str = "own") -> Samples:
    """The names (such as ``"F#"``) of ``notes`` said at their onsets by one voice; ``length`` samples, peak 0.7.

    Args:
        source: ``"espeak"`` for the voices of that program, where it is installed; else the voice of this module.
    """
    if source == ESPEAK:
        voice = ESPEAK_VOICES[seed % len(ESPEAK_VOICES)]
        return _placed(notes, names, length, lambda syllable, vowel_s: _by_espeak(syllable, voice), np.random.default_rng(seed))
    rng = np.random.default_rng(seed + 977)
    pitch_hz = float(rng.choice([105.0, 130.0, 195.0, 240.0, 290.0])) * float(rng.uniform(0.93, 1.07))
    tract = 1.0 + 0.16 * (pitch_hz > 170) + 0.06 * (pitch_hz > 270)

    def say(syllable: str, vowel_s: float) -> tuple[Wave, int]:
        return _syllable(NAMES[syllable], vowel_s, pitch_hz * float(rng.uniform(0.92, 1.08)), tract, rng)

    return _placed(notes, names, length, say, rng)


def _placed(
    notes: Sequence[PerformedNote],
    names: Sequence[str],
    length: int,
    say: Callable[[str, float], tuple[Wave, int]],
    rng: np.random.Generator,
) -> Samples:
    """Names put where their notes begin, vowels on the beat; a sign follows where there is time for it."""
    sound = np.zeros(length)
    for index, (note, name) in enumerate(zip(notes, names, strict=True)):
        later = notes[index + 1].onset_s - note.onset_s if index + 1 < len(notes) else 0.7
        syllables = [name[0], name[1]] if len(name) > 1 and later > TWO_SYLLABLES_S else [name[0]]
        share_s = later / len(syllables)
        for k, syllable in enumerate(syllables):
            wave, lead = say(syllable, float(np.clip(FILLED * share_s - 0.06, SHORTEST_S, LONGEST_S)))
            # Nobody says the next name before this one is over.
            wave = _faded(wave[: lead + int(0.95 * share_s * SYNTH_RATE_HZ)])
            level = float(rng.uniform(0.75, 1.0)) * (0.8 if k else 1.0)
            start = max(0, int((note.onset_s + k * share_s) * SYNTH_RATE_HZ) - lead)
            end = min(length, start + len(wave))
            sound[start:end] += level * wave[: max(0, end - start)]
    return np.asarray(sound / max(float(np.abs(sound).max()), 1e-6) * 0.7, dtype=np.float32)


def _faded(wave: Wave) -> Wave:
    count = min(len(wave), int(0.02 * SYNTH_RATE_HZ))
    faded = wave.copy()
    faded[len(wave) - count :] *= np.linspace(1, 0, count)
    return faded


@cache
def _by_espeak(syllable: str, voice: str) -> tuple[Wave, int]:
    """A syllable by the program espeak-ng, and where its level first reaches half of its loudest: there the vowel begins."""
    if shutil.which("espeak-ng") is None:
        raise CoreError("player.no_speaker", worded("The program espeak-ng is not installed; only the benchmark needs it."))
    words = {"#": "sharp", "b": "flat"}.get(syllable, syllable)
    made = subprocess.run(["espeak-ng", "-v", voice, "-s", "190", "--stdout", words], check=True, capture_output=True, timeout=60)
    rate, data = wavfile.read(io.BytesIO(made.stdout))
    wave = soxr.resample(data.astype(np.float64) / 32768.0, rate, SYNTH_RATE_HZ)
    window = int(0.01 * SYNTH_RATE_HZ)
    level = np.sqrt(np.convolve(np.square(wave), np.ones(window) / window, mode="same"))
    loud = np.flatnonzero(level > 0.03 * level.max())
    wave, level = wave[loud[0] : loud[-1]], level[loud[0] : loud[-1]]
    return np.asarray(wave / np.abs(wave).max()), int(np.argmax(level > 0.5 * level.max()))


def _syllable(parts: tuple[str, str, str], vowel_s: float, pitch_hz: float, tract: float, rng: np.random.Generator) -> tuple[Wave, int]:
    """The sound of one syllable and where in it the vowel begins, in samples."""
    before, vowel, after = parts
    onset = _noise(before, rng) if before else np.zeros(0)
    voice = _vowel(vowel, vowel_s, pitch_hz, tract, rng)
    return np.concatenate((onset, voice, _noise(after, rng) if after else np.zeros(0))), len(onset)


def _vowel(vowel: str, vowel_s: float, pitch_hz: float, tract: float, rng: np.random.Generator) -> Wave:
    count = int(vowel_s * SYNTH_RATE_HZ)
    t = np.arange(count) / count
    # The pitch of speech falls through a syllable and never quite holds.
    pitch = pitch_hz * (1.04 - 0.12 * t) * (1.0 + 0.006 * np.cumsum(rng.normal(0, 1, count)) / np.sqrt(np.arange(count) + 1.0))
    phase = np.cumsum(pitch) / SYNTH_RATE_HZ
    pulses = np.diff(np.floor(phase), prepend=0.0)
    # Two poles near zero frequency: a glottal pulse falls by 12 dB an octave.
    source = lfilter([1.0], [1.0, -1.9, 0.9025], pulses + 0.01 * rng.normal(0, 1, count))
    first, last = VOWELS[vowel]
    begin, end = (_through(source, [f * tract for f in formants]) for formants in (first, last))
    sound = begin * (1 - t) + end * t
    attack, release = int(0.022 * SYNTH_RATE_HZ), min(count // 3, int(0.07 * SYNTH_RATE_HZ))
    sound[:attack] *= np.linspace(0, 1, attack) ** 1.5
    sound[-release:] *= np.linspace(1, 0, release)
    return np.asarray(sound / max(float(np.abs(sound).max()), 1e-9))


def _through(source: Wave, formants: Sequence[float]) -> Wave:
    """Resonances one after the other."""
    for frequency, bandwidth in zip(formants, BANDWIDTHS_HZ, strict=True):
        radius = np.exp(-np.pi * bandwidth / SYNTH_RATE_HZ)
        cosine = 2 * radius * np.cos(2 * np.pi * frequency / SYNTH_RATE_HZ)
        source = lfilter([1 - cosine + radius**2], [1.0, -cosine, radius**2], source)
    return np.asarray(np.diff(source, prepend=0.0))  # the lips let high frequencies out more easily


def _noise(consonant: str, rng: np.random.Generator) -> Wave:
    length_s, (low, high), level = NOISES[consonant]
    count = int(length_s * SYNTH_RATE_HZ)
    spectrum = np.fft.rfft(rng.normal(0, 1, count))
    frequencies = np.fft.rfftfreq(count, 1 / SYNTH_RATE_HZ)
    spectrum[(frequencies < low) | (frequencies > high)] *= 0.03
    noise = np.fft.irfft(spectrum, count)
    shape = np.minimum(1.0, np.minimum(np.arange(count), np.arange(count)[::-1]) / max(1, count // 4))
    return np.asarray(level * shape * noise / max(float(np.abs(noise).max()), 1e-9))
