"""Performance to sound: General MIDI through FluidSynth, then a room and noise of our own making.

FluidSynth runs as a program, on files of our own only. Tuning and vibrato are pitch bends. Rooms are exponentially decaying
noise (Polack's model of late reverberation) behind a few early reflections.
"""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

import mido
import numpy as np
import numpy.typing as npt
from scipy.io import wavfile
from scipy.signal import fftconvolve

from didactor.core.errors import CoreError
from didactor.core.instruments import Instrument
from didactor.core.sound.player.performance import PerformedNote

SYNTH_RATE_HZ = 44_100
SOUNDFONTS = {
    "timgm": Path("/usr/share/sounds/sf2/TimGM6mb.sf2"),
    "fluid": Path("/usr/share/sounds/sf2/FluidR3_GM.sf2"),
}
TAIL_S = 1.2
BEND_RANGE_CENTS = 200.0
VIBRATO_HZ = 5.6
VIBRATO_AFTER_S = 0.25
_TICKS_PER_S = 960

Samples = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True, kw_only=True)
class Room:
    """Reverberation time to -60 dB (s), share of reverberant sound (0..1) and noise level (dBFS; None for none)."""

    rt60_s: float = 0.0
    wet: float = 0.0
    noise_dbfs: float | None = -70.0


ROOMS = {
    "dry": Room(),
    "bedroom": Room(rt60_s=0.35, wet=0.18, noise_dbfs=-62.0),
    "hall": Room(rt60_s=1.3, wet=0.30, noise_dbfs=-60.0),
}


def render(
    notes: list[PerformedNote], instrument: Instrument, source: str = "timgm", room: str = "dry", seed: int = 0, vibrato_cents: float = 0.0
) -> Samples:
    """Sound of a performance, mono float32 at ``SYNTH_RATE_HZ``, normalised to -3 dBFS peak.

    Raises:
        CoreError: the synthesiser or its sounds are not installed (the words say how).
    """
    dry = synthesise(notes, instrument, source, vibrato_cents)
    return add_room(dry, ROOMS[room], np.random.default_rng(seed))


def synthesise(
    notes: list[PerformedNote], instrument: Instrument, source: str, vibrato_cents: float = 0.0, clicks_s: tuple[float, ...] = ()
) -> Samples:
    """The dry sound of a performance; ``clicks_s`` adds wood-block taps at these times (a count-off)."""
    font = SOUNDFONTS[source]
    if shutil.which("fluidsynth") is None or not font.exists():
        raise CoreError("player.no_synthesiser", "The synthesiser is not installed. Run bin/start or bin/test once; they install it.")
    end = max([n.offset_s for n in notes] + list(clicks_s), default=0.0) + TAIL_S
    with tempfile.TemporaryDirectory() as folder:
        midi, wave = Path(folder) / "take.mid", Path(folder) / "take.wav"
        _midi(notes, instrument, vibrato_cents, clicks_s).save(midi)
        subprocess.run(
            ["fluidsynth", "-ni", "-q", "-g", "0.7", "-r", str(SYNTH_RATE_HZ), "-R", "0", "-C", "0", "-F", str(wave), str(font), str(midi)],
            check=True,
            capture_output=True,
            timeout=300,
        )
        _, data = wavfile.read(wave)
    stereo = data.astype(np.float32) / 32768.0
    mono = stereo.mean(axis=1) if stereo.ndim == 2 else stereo
    length = int(end * SYNTH_RATE_HZ)
    mono = np.pad(mono, (0, max(0, length - len(mono))))[:length]
    return (mono / max(float(np.abs(mono).max()), 1e-6) * 0.7).astype(np.float32)


def _midi(notes: list[PerformedNote], instrument: Instrument, vibrato_cents: float, clicks_s: tuple[float, ...]) -> mido.MidiFile:
    events: list[tuple[float, int, mido.Message]] = [(0.0, 0, mido.Message("program_change", program=instrument.program, channel=0))]
    for note in notes:
        events.append((note.onset_s - 0.002, 1, _bend(note.cents)))
        if vibrato_cents and instrument.bends and note.offset_s - note.onset_s > 2 * VIBRATO_AFTER_S:
            for time in np.arange(note.onset_s + VIBRATO_AFTER_S, note.offset_s, 0.02):
                swing = vibrato_cents * np.sin(2 * np.pi * VIBRATO_HZ * (time - note.onset_s - VIBRATO_AFTER_S))
                events.append((float(time), 1, _bend(note.cents + float(swing))))
        events.append((note.onset_s, 3, mido.Message("note_on", note=note.midi, velocity=note.velocity, channel=0)))
        events.append((note.offset_s, 2, mido.Message("note_off", note=note.midi, velocity=0, channel=0)))
    for time in clicks_s:
        events.append((time, 3, mido.Message("note_on", note=76, velocity=100, channel=9)))
        events.append((time + 0.05, 2, mido.Message("note_off", note=76, velocity=0, channel=9)))
    file = mido.MidiFile(ticks_per_beat=_TICKS_PER_S // 2)
    track = mido.MidiTrack()
    file.tracks.append(track)
    tick = 0
    for time, _, message in sorted(events, key=lambda e: (e[0], e[1])):
        at = max(tick, round(max(0.0, time) * _TICKS_PER_S))
        track.append(message.copy(time=at - tick))
        tick = at
    return file


def _bend(cents: float) -> mido.Message:
    return mido.Message("pitchwheel", channel=0, pitch=int(np.clip(cents / BEND_RANGE_CENTS * 8192, -8192, 8191)))


def add_room(dry: Samples, room: Room, rng: np.random.Generator) -> Samples:
    """Put a dry sound into a room with its noise."""
    sound = dry.astype(np.float64)
    if room.rt60_s > 0:
        length = int(room.rt60_s * SYNTH_RATE_HZ)
        decay = np.exp(-6.9 * np.arange(length) / length)
        tail = rng.normal(0, 1, length) * decay
        for delay_s in (0.007, 0.013, 0.021, 0.034):
            tail[int(delay_s * SYNTH_RATE_HZ)] += 4.0 * float(np.exp(-delay_s / 0.03)) * rng.choice([-1, 1])
        tail /= np.sqrt(np.square(tail).sum())
        wet = fftconvolve(sound, tail)[: len(sound)]
        sound = (1 - room.wet) * sound + room.wet * wet
    sound = sound / max(float(np.abs(sound).max()), 1e-6) * 0.7
    if room.noise_dbfs is not None:
        sound = sound + rng.normal(0, 10 ** (room.noise_dbfs / 20), len(sound))
    return sound.astype(np.float32)


def sound_onsets_s(dry: Samples, notes: list[PerformedNote]) -> list[float]:
    """When each note is first heard: its dry sound first reaches half of what it reaches within 150 ms of its start.

    Synthesisers' attacks differ by over 100 ms, so the truth of an onset is measured on the sound. Where the note before
    covers the attack (a legato), the player's own median delay for this take is used.
    """
    hop = SYNTH_RATE_HZ // 400
    envelope = np.sqrt(np.square(dry[: len(dry) // hop * hop].reshape(-1, hop), dtype=np.float64).mean(axis=1))
    delays: list[float | None] = []
    for note in notes:
        first, last = int(note.onset_s * 400), int((note.onset_s + 0.15) * 400)
        window = envelope[first : min(last, len(envelope))]
        before = float(envelope[max(0, first - 4) : first + 1].max()) if first else 0.0
        peak = float(window.max()) if len(window) else 0.0
        if peak <= 0 or before > 0.4 * peak:
            delays.append(None)
            continue
        delays.append(int(np.argmax(window >= 0.5 * peak)) / 400)
    typical = float(np.median([d for d in delays if d is not None] or [0.01]))
    return [n.onset_s + (typical if d is None else d) for n, d in zip(notes, delays, strict=True)]
