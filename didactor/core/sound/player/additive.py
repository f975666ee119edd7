"""A source of our own: every note is a sum of partials with an envelope, transients and noise of its instrument's family.

It shares nothing with the sound fonts, so what the ear learnt from those can be tried on it. The recipes are textbook ones (Fletcher
& Rossing, The Physics of Musical Instruments): flutes have few partials and breath, closed tubes mostly odd ones, brass grows
brighter with loudness, bowed strings are saw-like behind body resonances, plucked strings lack the partials with a node
at the plucking point and their high partials die first, piano strings are stiff. Seeded: each take is another instrument of its kind.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.signal import butter, lfilter

from didactor.core.instruments import Instrument
from didactor.core.sound.player.performance import PerformedNote
from didactor.core.units import midi_to_hz

RATE_HZ = 44_100
VIBRATO_HZ, VIBRATO_AFTER_S = 5.4, 0.22
GLIDE_S = 0.03
#: A pause no longer than this between two notes of a blown or bowed line is a slur: the tone changes without a new attack.
SLUR_GAP_S = 0.012

Samples = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True, kw_only=True)
class Family:
    """``rolloff``: partials fall as n^-rolloff; ``odd``: level of even partials; ``attack_s``, ``release_s``; ``decay_s``: time
    to fall by 60 dB for a middle note that decays, None for held sounds; ``noise``: breath, bow or hammer, relative level;
    ``body``: resonances in Hz; ``pluck``: plucking point along the string; ``stiffness``: inharmonicity of a middle string.
    """

    rolloff: float
    attack_s: float
    release_s: float = 0.05
    even: float = 1.0
    decay_s: float | None = None
    noise: float = 0.02
    body: tuple[float, ...] = ()
    pluck: float | None = None
    stiffness: float = 0.0
    partials: int = 24


FAMILIES = {
    "flute": Family(rolloff=2.2, attack_s=0.05, noise=0.06, partials=8),
    "reed": Family(rolloff=1.1, attack_s=0.035, noise=0.02, body=(1100.0, 2800.0)),
    "clarinet": Family(rolloff=1.2, attack_s=0.035, even=0.12, noise=0.015),
    "brass": Family(rolloff=1.0, attack_s=0.045, noise=0.01, body=(1200.0,), partials=20),
    "bowed": Family(rolloff=1.05, attack_s=0.07, release_s=0.08, noise=0.03, body=(280.0, 460.0, 1000.0, 2500.0), partials=30),
    "plucked": Family(rolloff=0.9, attack_s=0.002, decay_s=3.0, noise=0.15, pluck=0.18, stiffness=4e-5, body=(110.0, 210.0, 420.0)),
    "struck": Family(rolloff=1.15, attack_s=0.003, release_s=0.09, decay_s=6.0, noise=0.1, stiffness=3e-4),
    "voice": Family(rolloff=1.2, attack_s=0.06, release_s=0.08, noise=0.03, body=(650.0, 1100.0, 2800.0), partials=30),
}
_FAMILY_OF = {
    "piccolo": "flute",
    "flute": "flute",
    "recorder": "flute",
    "oboe": "reed",
    "bassoon": "reed",
    "alto-saxophone": "reed",
    "tenor-saxophone": "reed",
    "clarinet": "clarinet",
    "horn": "brass",
    "trumpet": "brass",
    "trombone": "brass",
    "tuba": "brass",
    "violin": "bowed",
    "viola": "bowed",
    "cello": "bowed",
    "double-bass": "bowed",
    "guitar": "plucked",
    "ukulele": "plucked",
    "piano": "struck",
    "voice": "voice",
}


def synthesise_additive(notes: list[PerformedNote], instrument: Instrument, length: int, seed: int, vibrato_cents: float) -> Samples:
    """Dry sound of a performance, ``length`` samples at ``RATE_HZ``."""
    rng = np.random.default_rng(seed)
    family = FAMILIES[_FAMILY_OF.get(instrument.slug, "reed")]
    timbre = rng.uniform(0.7, 1.35, family.partials)
    body = tuple(f * float(rng.uniform(0.9, 1.1)) for f in family.body)
    sound = np.zeros(length, dtype=np.float64)
    lines: dict[int, PerformedNote] = {}
    wanders = wander_cents(notes, instrument, seed)
    for note, wander in zip(notes, wanders, strict=True):
        begin = int(note.onset_s * RATE_HZ)
        if begin >= length:
            continue
        if note.stroke:
            piece = _stroke(note, instrument, rng)
        else:
            before = lines.get(note.staff)
            slurred = before if before is not None and family.decay_s is None and note.onset_s - before.offset_s < SLUR_GAP_S else None
            piece = _tone(note, slurred, family, timbre, body, rng, vibrato_cents if instrument.bends else 0.0, wander)
        end = min(length, begin + len(piece))
        sound[begin:end] += piece[: end - begin]
        lines[note.staff] = note
    return sound.astype(np.float32)


def wander_cents(notes: list[PerformedNote], instrument: Instrument, seed: int) -> list[npt.NDArray[np.float64]]:
    """How the pitch of each held note wanders by itself, cents per sample: no lip, bow or voice is a machine."""
    family = FAMILIES[_FAMILY_OF.get(instrument.slug, "reed")]
    rng = np.random.default_rng((seed, 1))
    found = []
    for note in notes:
        count = _length(note, family)
        still = note.stroke or family.decay_s is not None
        found.append(np.zeros(count) if still else np.cumsum(rng.normal(0, 0.02, count)) * np.exp(-np.arange(count) / RATE_HZ / 4))
    return found


def _length(note: PerformedNote, family: Family) -> int:
    return int((note.offset_s - note.onset_s + family.release_s * 2.5) * RATE_HZ)


def _tone(
    note: PerformedNote,
    slurred_from: PerformedNote | None,
    family: Family,
    timbre: npt.NDArray[np.float64],
    body: tuple[float, ...],
    rng: np.random.Generator,
    vibrato_cents: float,
    wander: npt.NDArray[np.float64],
) -> npt.NDArray[np.float64]:
    held_s = note.offset_s - note.onset_s
    count = _length(note, family)
    time = np.arange(count) / RATE_HZ
    base = midi_to_hz(note.midi + note.cents / 100)
    loud = (note.velocity / 127.0) ** 1.7
    bend = (
        vibrato_cents
        * np.sin(2 * np.pi * VIBRATO_HZ * np.maximum(time - VIBRATO_AFTER_S, 0))
        * np.clip((time - VIBRATO_AFTER_S) / 0.3, 0, 1)
    )
    bend = bend + wander
    if slurred_from is not None and abs(slurred_from.midi - note.midi) <= 12:
        bend = bend + 100 * (slurred_from.midi - note.midi) * np.exp(-time / (GLIDE_S / 4))
    phase = 2 * np.pi * np.cumsum(base * 2 ** (bend / 1200)) / RATE_HZ
    attack = np.minimum(1.0, time / max(family.attack_s * float(rng.uniform(0.8, 1.3)), 1e-3))
    if slurred_from is not None:
        attack = np.minimum(1.0, time / 0.012)
    release = np.where(time < held_s, 1.0, np.exp(-(time - held_s) / (family.release_s / 3)))
    tone = np.zeros(count)
    for number in range(1, family.partials + 1):
        stretch = number * np.sqrt(1 + family.stiffness * number**2)
        frequency = base * stretch
        if frequency > 0.42 * RATE_HZ:
            break
        level = timbre[number - 1] * number ** -(family.rolloff + 0.8 * (1 - loud)) * (family.even if number % 2 == 0 else 1.0)
        if family.pluck is not None:
            level *= abs(np.sin(np.pi * number * family.pluck))
        for resonance in body:
            level *= 1 + 1.2 / (1 + ((frequency - resonance) / (0.2 * resonance)) ** 2)
        envelope = attack if number < 4 else attack**1.5
        if family.decay_s is not None:
            fall_s = family.decay_s * (261.6 / base) ** 0.6 / (1 + 0.12 * number)
            envelope = envelope * (0.7 * np.exp(-6.9 * time / (0.45 * fall_s)) + 0.3 * np.exp(-6.9 * time / (1.6 * fall_s)))
        tone += level * envelope * np.sin(stretch * phase + rng.uniform(0, 2 * np.pi))
    tone *= release / np.sqrt(np.square(timbre[:4]).sum())
    return np.asarray(loud * (tone + family.noise * _noise(count, base, family, time, attack * release, rng)))


def _noise(
    count: int, base: float, family: Family, time: npt.NDArray[np.float64], held: npt.NDArray[np.float64], rng: np.random.Generator
) -> npt.NDArray[np.float64]:
    """Breath and bow last; fingers and hammers are a knock at the beginning."""
    low, high = min(0.8 * base, 4000.0), min(6 * base + 1500.0, 15_000.0)
    b, a = butter(1, [low / (RATE_HZ / 2), high / (RATE_HZ / 2)], "band")
    shape = np.exp(-time / 0.012) if family.decay_s is not None else held * (0.4 + 2.0 * np.exp(-time / 0.04))
    return np.asarray(lfilter(b, a, rng.normal(0, 1, count)) * shape)


def _stroke(note: PerformedNote, instrument: Instrument, rng: np.random.Generator) -> npt.NDArray[np.float64]:
    """A clap, or a tap on wood or skin: a few milliseconds of filtered noise, perhaps with a knock below."""
    count = int(0.25 * RATE_HZ)
    time = np.arange(count) / RATE_HZ
    clap = instrument.slug != "percussion"
    centre, fall = (float(rng.uniform(1100, 2000)), 0.018) if clap else (float(rng.uniform(250, 500)), 0.05)
    b, a = butter(1, [0.5 * centre / (RATE_HZ / 2), min(3.0 * centre, 16_000) / (RATE_HZ / 2)], "band")
    shape = np.exp(-time / fall)
    for extra_s in rng.uniform(0.004, 0.012, 2) if clap else ():
        shape = np.maximum(shape, 0.8 * np.exp(-np.abs(time - extra_s) / fall) * (time >= extra_s))
    sound = lfilter(b, a, rng.normal(0, 1, count)) * shape
    if not clap:
        sound += np.sin(2 * np.pi * float(rng.uniform(120, 200)) * time) * np.exp(-time / 0.06)
    return np.asarray((note.velocity / 127.0) ** 1.5 * sound / max(float(np.abs(sound).max()), 1e-9))


def taps(times_s: tuple[float, ...], length: int, seed: int) -> Samples:
    """A stick on wood at each time, ``length`` samples at ``RATE_HZ``, at most 1 loud: what is counted off with, another with each seed."""
    rng = np.random.default_rng((seed, 2))
    time = np.arange(int(0.15 * RATE_HZ)) / RATE_HZ
    pitch_hz, loud, fall_s = float(rng.uniform(600, 1800)), float(rng.uniform(0.35, 0.9)), float(rng.uniform(0.012, 0.035))
    sound = np.zeros(length, dtype=np.float64)
    for time_s in times_s:
        wood = sum(np.sin(2 * np.pi * pitch_hz * ratio * time) * np.exp(-time * ratio / fall_s) / ratio for ratio in (1.0, 2.4, 4.1))
        piece = wood + 0.6 * rng.normal(0, 1, len(time)) * np.exp(-time / 0.003)
        begin = int(time_s * RATE_HZ)
        end = min(length, begin + len(piece))
        sound[begin:end] += loud * float(rng.uniform(0.85, 1.0)) * (piece / np.abs(piece).max())[: end - begin]
    return sound.astype(np.float32)
