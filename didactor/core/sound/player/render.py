"""Performance to dry sound: General MIDI through FluidSynth, or a source of our own (``additive``).

FluidSynth runs as a program, on files of our own only. Tuning and vibrato are pitch bends.
"""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import mido
import numpy as np
from scipy.io import wavfile

from didactor.core.errors import CoreError
from didactor.core.instruments import Instrument
from didactor.core.sound.player.additive import synthesise_additive, taps, wander_cents
from didactor.core.sound.player.performance import PerformedNote
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ, Samples
from didactor.core.units import midi_to_hz
from didactor.core.words import worded

SOUNDFONTS = {
    "timgm": Path("/usr/share/sounds/sf2/TimGM6mb.sf2"),
    "csound": Path("/usr/share/sounds/sf2/sf_GMbank.sf2"),
    "fluid": Path("/usr/share/sounds/sf2/FluidR3_GM.sf2"),
}
TAIL_S = 1.2
RELEASE_BEFORE_S = 0.012
BEND_RANGE_CENTS = 200.0
VIBRATO_HZ = 5.6
VIBRATO_AFTER_S = 0.25
_TICKS_PER_S = 960
#: The source of our own.
ADDITIVE = "additive"
SOURCES = (*SOUNDFONTS, ADDITIVE)
#: Sources that others add, by name: notes, instrument, seed and vibrato (cents) to sound at ``SYNTH_RATE_HZ``. Benchmarks bring recorded
#: instruments, which the product does not ship.
ADDED: dict[str, Callable[[list[PerformedNote], Instrument, int, float], Samples]] = {}
#: General MIDI percussion: hand clap, and a snare drum's side stick.
CLAP_KEY, PERCUSSION_KEY, CLICK_KEY = 39, 37, 76


def synthesise(
    notes: list[PerformedNote],
    instrument: Instrument,
    source: str,
    vibrato_cents: float = 0.0,
    clicks_s: tuple[float, ...] = (),
    seed: int = 0,
) -> Samples:
    """The dry sound of a performance, mono at ``SYNTH_RATE_HZ``, peak 0.7.

    Args:
        clicks_s: taps on wood at these times (a count-off).
        seed: which instrument of its kind, for the source of our own.

    Raises:
        CoreError: the synthesiser or its sounds are not installed (the words say how).
    """
    end = max([n.offset_s for n in notes] + list(clicks_s), default=0.0) + TAIL_S
    if source == ADDITIVE or source in ADDED:
        if source == ADDITIVE:
            sound = synthesise_additive(notes, instrument, int(end * SYNTH_RATE_HZ), seed, vibrato_cents)
        else:
            sound = ADDED[source](notes, instrument, seed, vibrato_cents)
        if clicks_s:
            sound = sound / max(float(np.abs(sound).max()), 1e-6)
            length = max(len(sound), int(end * SYNTH_RATE_HZ))
            sound = np.pad(sound, (0, length - len(sound))) + taps(clicks_s, length, seed)
        return np.asarray(sound / max(float(np.abs(sound).max()), 1e-6) * 0.7, dtype=np.float32)
    font = SOUNDFONTS[source]
    if shutil.which("fluidsynth") is None or not font.exists():
        raise CoreError(
            "player.no_synthesiser", worded("The synthesiser is not installed. Run bin/start or bin/test once; they install it.")
        )
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
    for note in _released(notes):
        if note.stroke:
            key = PERCUSSION_KEY if instrument.slug == "percussion" else CLAP_KEY
            events.append((note.onset_s, 3, mido.Message("note_on", note=key, velocity=note.velocity, channel=9)))
            events.append((note.onset_s + 0.05, 2, mido.Message("note_off", note=key, velocity=0, channel=9)))
            continue
        events.append((note.onset_s - 0.002, 1, _bend(note.cents)))
        if vibrato_cents and instrument.bends and note.offset_s - note.onset_s > 2 * VIBRATO_AFTER_S:
            for time in np.arange(note.onset_s + VIBRATO_AFTER_S, note.offset_s, 0.02):
                swing = vibrato_cents * np.sin(2 * np.pi * VIBRATO_HZ * (time - note.onset_s - VIBRATO_AFTER_S))
                events.append((float(time), 1, _bend(note.cents + float(swing))))
        events.append((note.onset_s, 3, mido.Message("note_on", note=note.midi, velocity=note.velocity, channel=0)))
        events.append((note.offset_s, 2, mido.Message("note_off", note=note.midi, velocity=0, channel=0)))
    for time in clicks_s:
        events.append((time, 3, mido.Message("note_on", note=CLICK_KEY, velocity=100, channel=9)))
        events.append((time + 0.05, 2, mido.Message("note_off", note=CLICK_KEY, velocity=0, channel=9)))
    file = mido.MidiFile(ticks_per_beat=_TICKS_PER_S // 2)
    track = mido.MidiTrack()
    file.tracks.append(track)
    tick = 0
    for time, _, message in sorted(events, key=lambda e: (e[0], e[1])):
        at = max(tick, round(max(0.0, time) * _TICKS_PER_S))
        track.append(message.copy(time=at - tick))
        tick = at
    return file


def _released(notes: list[PerformedNote]) -> list[PerformedNote]:
    """A key is let go before it is struck again: a synthesiser would take the late release for that of the new note."""
    following: dict[int, float] = {}
    result = []
    for note in sorted(notes, key=lambda n: n.onset_s, reverse=True):
        again = following.get(note.midi)
        if again is not None and not note.stroke:
            note = replace(note, offset_s=min(note.offset_s, max(note.onset_s + 0.02, again - RELEASE_BEFORE_S)))
        following[note.midi] = note.onset_s
        result.append(note)
    return result[::-1]


def _bend(cents: float) -> mido.Message:
    return mido.Message("pitchwheel", channel=0, pitch=int(np.clip(cents / BEND_RANGE_CENTS * 8192, -8192, 8191)))


@dataclass(frozen=True, slots=True, kw_only=True)
class Sounding:
    """What becomes of one performed note as a sound: when it is first heard, and its pitch in cents from its key."""

    onset_s: float
    cents: float


#: Each pitch sounds alone for so long, every so often.
ALONE_S, EVERY_S = 0.6, 1.0
#: From which share of a note on its pitch is measured; how far from the key it is sought; over how many partials.
STEADY_FROM, SOUGHT_CENTS, PARTIALS = 0.2, 80, 5


def measure_sounding(notes: list[PerformedNote], instrument: Instrument, source: str, seed: int = 0) -> list[Sounding]:
    """Onset and pitch of every note as its source sounds it.

    Synthesisers' attacks differ by over 100 ms and their samples are out of tune by up to 20 cents, so the truth is measured on the
    sound: on every pitch alone, since in the take itself other notes ring over it. An onset is where the level first reaches half
    of what it reaches within 150 ms; the pitch is what gathers most of the spectrum on its first partials.
    """
    pitches = sorted({(n.midi, n.stroke) for n in notes})
    alone = [
        replace(
            notes[0],
            onset_s=0.1 + EVERY_S * i,
            offset_s=0.1 + EVERY_S * i + ALONE_S,
            midi=midi,
            cents=0.0,
            stroke=stroke,
            velocity=int(np.median([n.velocity for n in notes if (n.midi, n.stroke) == (midi, stroke)])),
        )
        for i, (midi, stroke) in enumerate(pitches)
    ]
    dry = synthesise(alone, instrument, source, seed=seed)
    delays = {(n.midi, n.stroke): _delay_s(dry, n.onset_s) for n in alone}
    if source == ADDITIVE:
        wanders = wander_cents(notes, instrument, seed)
        own = [float(np.mean(w[len(w) // 5 :])) if len(w) else 0.0 for w in wanders]
    else:
        where = {n.midi: n.onset_s for n in alone if not n.stroke}
        # Samples glide into their pitch: a short note is measured on as much of it as is heard.
        own = [0.0 if n.stroke else _detuning_cents(dry, n.midi, where[n.midi], min(ALONE_S, n.offset_s - n.onset_s)) for n in notes]
    return [Sounding(onset_s=n.onset_s + delays[n.midi, n.stroke], cents=n.cents + cents) for n, cents in zip(notes, own, strict=True)]


def _delay_s(dry: Samples, onset_s: float) -> float:
    hop = SYNTH_RATE_HZ // 1000
    piece = dry[int(onset_s * SYNTH_RATE_HZ) - 8 * hop : int((onset_s + 0.16) * SYNTH_RATE_HZ)]
    envelope = np.sqrt(np.square(piece[: len(piece) // hop * hop].reshape(-1, hop), dtype=np.float64).mean(axis=1))
    # Half a period of the lowest notes: their envelope must not follow the wave itself.
    envelope = np.convolve(envelope, np.ones(8) / 8, mode="same")[8:158]
    return float(np.argmax(envelope >= 0.5 * envelope.max())) * hop / SYNTH_RATE_HZ if len(envelope) and envelope.max() > 0 else 0.01


def _detuning_cents(dry: Samples, midi: int, onset_s: float, held_s: float) -> float:
    """By how much a note's sound is off its key while it is held."""
    piece = dry[int((onset_s + STEADY_FROM * held_s) * SYNTH_RATE_HZ) : int((onset_s + held_s) * SYNTH_RATE_HZ)]
    size = 1 << 16
    magnitude = np.abs(np.fft.rfft(piece * np.hanning(len(piece)), size))
    cents = np.arange(-SOUGHT_CENTS, SOUGHT_CENTS + 1)
    bins = midi_to_hz(midi) * 2.0 ** (cents / 1200.0) * size / SYNTH_RATE_HZ
    gathered = sum(np.interp(number * bins, np.arange(len(magnitude)), magnitude) for number in range(1, PARTIALS + 1))
    return float(cents[int(np.argmax(gathered))])
