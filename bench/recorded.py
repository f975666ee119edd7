"""Recorded instruments for the benchmark: single notes that people played, put together to the simulated player's performances.

Some thirty notes an instrument, from the npm registry (``bench/recorded/package-lock.json``), fetched once into the state folder.
A note between two recorded ones is the nearest or the next nearest, played faster or slower; which of the two depends on the seed. The
truth is measured on the sound as for any other source. Instruments are split between the fit and the held-out set, so that the ear is
asked about recordings of instruments that nothing was fitted to.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from functools import cache
from pathlib import Path

import av
import numpy as np
import soxr

from didactor.core.instruments import Instrument
from didactor.core.sound.player import render
from didactor.core.sound.player.performance import PerformedNote
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ, Samples
from didactor.core.units import midi_to_hz, name_to_midi

HERE = Path(__file__).resolve().parent
FETCHED = Path(os.environ.get("DIDACTOR_STATE", HERE.parent / "var")) / "bench" / "recorded"
SOURCE = "recorded"
#: Instrument to the recordings that stand for it; two hands are played on the harp in the fit set, where no piano is.
FIT = {"flute": "flute", "clarinet": "clarinet", "cello": "cello", "trombone": "trombone", "bassoon": "bassoon"}
FIT_MANY = {"guitar": "guitar-nylon", "harp": "harp"}
HELD_OUT = {"trumpet": "trumpet", "violin": "violin", "alto-saxophone": "saxophone", "horn": "french-horn", "tuba": "tuba"}
HELD_OUT_MANY = {"piano": "piano", "guitar": "guitar-acoustic"}
RECORDINGS = {**FIT, **FIT_MANY, **HELD_OUT, **HELD_OUT_MANY}

#: Recordings that do not sound what their name says (``pitch_errors``, and their partials).
MISNAMED = {"trumpet": (48, 58), "cello": (40, 70), "clarinet": (90,)}
#: A recording begins where its level first reaches this share of its highest, less this time.
BEGINS_SHARE, BEFORE_S = 0.05, 0.008
#: All notes are as loud as each other over this time; then by their velocity.
LOUDNESS_S = 0.6
#: A sound dies away in this time when its key is let go: strings and pipes are damped, plucked ones somewhat later.
RELEASE_S = {True: 0.12, False: 0.05}
VIBRATO_HZ, VIBRATO_AFTER_S = 5.6, 0.25
#: A note further from the nearest recording than this is not made of the next nearest.
FURTHEST_NEXT = 3


def synthesise(notes: list[PerformedNote], instrument: Instrument, seed: int, vibrato_cents: float) -> Samples:
    """The dry sound of a performance, mono at ``SYNTH_RATE_HZ``."""
    recorded = _notes_of(RECORDINGS[instrument.slug])
    end_s = max((n.offset_s for n in notes), default=0.0) + render.TAIL_S
    sound = np.zeros(int(end_s * SYNTH_RATE_HZ))
    for note in notes:
        piece = _sounded(note, recorded, instrument, seed, vibrato_cents)
        first = int(note.onset_s * SYNTH_RATE_HZ)
        piece = piece[: len(sound) - first]
        sound[first : first + len(piece)] += piece
    return sound.astype(np.float32)


def _sounded(note: PerformedNote, recorded: dict[int, Samples], instrument: Instrument, seed: int, vibrato_cents: float) -> Samples:
    near = sorted(recorded, key=lambda midi: (abs(midi - note.midi), midi))
    other = near[1] if len(near) > 1 and abs(near[1] - note.midi) <= FURTHEST_NEXT else near[0]
    midi = other if (seed * 31 + note.midi * 17) % 3 == 0 else near[0]
    held_s = max(0.03, note.offset_s - note.onset_s)
    length = int((held_s + 4 * RELEASE_S[instrument.decays]) * SYNTH_RATE_HZ)
    time_s = np.arange(length) / SYNTH_RATE_HZ
    cents = 100.0 * (note.midi - midi) + note.cents + np.zeros(length)
    if vibrato_cents and instrument.bends and held_s > 2 * VIBRATO_AFTER_S:
        swing = vibrato_cents * np.sin(2 * np.pi * VIBRATO_HZ * (time_s - VIBRATO_AFTER_S))
        cents += np.where(time_s > VIBRATO_AFTER_S, swing, 0.0)
    source = recorded[midi]
    read_at = np.concatenate([[0.0], np.cumsum(2.0 ** (cents / 1200.0))[:-1]])
    piece = np.interp(read_at, np.arange(len(source)), source, right=0.0)
    released = np.exp(-np.maximum(0.0, time_s - held_s) / RELEASE_S[instrument.decays])
    return (piece * released * (note.velocity / 100.0) ** 1.5).astype(np.float32)


@cache
def _notes_of(name: str) -> dict[int, Samples]:
    """MIDI number to recording, from its beginning on, alike in loudness."""
    notes = {}
    for path in sorted((_fetched() / f"tonejs-instrument-{name}-mp3").rglob("*.mp3")):
        step = path.stem.replace("s", "#")
        if step[-1].isdigit() and " " not in step and name_to_midi(step) not in MISNAMED.get(name, ()):
            notes[name_to_midi(step)] = _decoded(path)
    if not notes:
        raise FileNotFoundError(f"no recordings of {name}")
    return notes


def _decoded(path: Path) -> Samples:
    with av.open(str(path)) as container:
        frames = [frame.to_ndarray().mean(axis=0) for frame in container.decode(audio=0)]
        rate_hz = container.streams.audio[0].rate
    sound = soxr.resample(np.concatenate(frames).astype(np.float32), rate_hz, SYNTH_RATE_HZ)
    begins = int(np.argmax(np.abs(sound) > BEGINS_SHARE * np.abs(sound).max()))
    sound = sound[max(0, begins - int(BEFORE_S * SYNTH_RATE_HZ)) :]
    loud = np.sqrt(np.square(sound[: int(LOUDNESS_S * SYNTH_RATE_HZ)]).mean())
    return np.asarray(sound * (0.1 / max(float(loud), 1e-6)), dtype=np.float32)


def _fetched() -> Path:
    """Where the recordings lie; fetches them by the lock file where they do not yet."""
    if not (FETCHED / "node_modules").exists():
        FETCHED.mkdir(parents=True, exist_ok=True)
        for name in ("package.json", "package-lock.json", ".npmrc"):
            shutil.copy(HERE / "recorded" / name, FETCHED / name)
        subprocess.run(["npm", "ci", "--ignore-scripts", "--loglevel=error"], cwd=FETCHED, check=True, capture_output=True)
    return FETCHED / "node_modules"


def pitch_errors(name: str) -> dict[int, float]:
    """By how many semitones each recording is off its name: to see that they are what they say."""
    errors = {}
    for midi, sound in _notes_of(name).items():
        piece = sound[int(0.3 * SYNTH_RATE_HZ) : int(1.3 * SYNTH_RATE_HZ)]
        size = 1 << 17
        magnitude = np.abs(np.fft.rfft(piece * np.hanning(len(piece)), size))
        shifts = np.arange(-14, 14.01, 0.05)
        bins = midi_to_hz(midi) * 2.0 ** (shifts / 12.0) * size / SYNTH_RATE_HZ
        gathered = sum(np.interp(number * bins, np.arange(len(magnitude)), magnitude) / number**0.5 for number in range(1, 9))
        errors[midi] = round(float(shifts[int(np.argmax(gathered))]), 2)
    return errors


render.ADDED[SOURCE] = synthesise
