"""What happens to a sound between the instrument and the teacher: noise, neighbours, microphones, lines and codecs.

Each degradation is a dict with ``kind`` and its size, applied in the order given:

    noise      snr_db, colour ``white|pink``   a room, a fan, the sea
    hum        snr_db, hz                      mains and its harmonics
    speech     snr_db, times_s                 somebody talks (vowel-like, of our own making), all along or from times on
    click      level_db, bpm, start_s          a metronome in the room; its times are in the truth
    backing    level_db, samples               an accompaniment in the room (rendered by the caller); with ``through`` a room's name,
                                               ``samples`` are what a loudspeaker there plays, ``delay_s`` later
    phone      low_hz, high_hz                 a telephone's band (300-3400 Hz)
    gain       depth_db, release_s             automatic gain riding
    clip       over_db                         the input overdriven by so much
    dropout    count, ms                       stretches of digital silence
    codec      name ``opus|mp3|aac``, bit_rate through FFmpeg and back
    rate       hz                              a low sample rate
    cut        start_s, end_s                  the recording begins late or ends early
    applause   level_db, length_s              at the end
    quiet      db                              far too low a level
"""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import numpy.typing as npt
import soxr
from scipy.signal import butter, lfilter, sosfiltfilt

from didactor.core.errors import PassageError
from didactor.core.sound.player.rooms import ROOMS, SYNTH_RATE_HZ, Samples, add_room
from didactor.core.words import worded

Degradation = dict[str, Any]
_Sound = npt.NDArray[np.float64]


def degrade(samples: Samples, steps: list[Degradation], rng: np.random.Generator) -> tuple[Samples, dict[str, Any]]:
    """The degraded sound, and what the truth must know of it: ``clicks_s`` and ``shift_s`` (time cut from the beginning).

    Raises:
        PassageError: a kind that does not exist.
    """
    sound, truth = samples.astype(np.float64), {"clicks_s": [], "shift_s": 0.0}
    for step in steps:
        if step.get("kind") not in _STEPS:
            raise PassageError(
                "degrade.kind", worded("There is no degradation “{get}”. Known: {steps}.", get=step.get("kind"), steps=", ".join(_STEPS))
            )
        sound = _STEPS[step["kind"]](sound, step, rng, truth)
    return sound.astype(np.float32), truth


def _rms(sound: _Sound) -> float:
    """Level of the playing: silence around it does not count."""
    frame = SYNTH_RATE_HZ // 20
    power = np.square(sound[: len(sound) // frame * frame]).reshape(-1, frame).mean(axis=1)
    loud = power[power > power.max() * 1e-3]
    return float(np.sqrt(loud.mean())) if len(loud) else 1e-6


def _at_snr(sound: _Sound, added: _Sound, snr_db: float) -> _Sound:
    return sound + added * (_rms(sound) / max(float(np.sqrt(np.square(added).mean())), 1e-9) * 10 ** (-snr_db / 20))


def _noise(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    noise = rng.normal(0, 1, len(sound))
    if step.get("colour", "pink") == "pink":
        spectrum = np.fft.rfft(noise)
        noise = np.fft.irfft(spectrum / np.sqrt(np.maximum(np.arange(len(spectrum)), 20)), len(sound))
    return _at_snr(sound, noise, float(step.get("snr_db", 20)))


def _hum(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    time, base = np.arange(len(sound)) / SYNTH_RATE_HZ, float(step.get("hz", 50))
    hum = sum(np.sin(2 * np.pi * base * n * time + rng.uniform(0, 6)) / n for n in (1, 2, 3, 4, 6, 8))
    return _at_snr(sound, np.asarray(hum), float(step.get("snr_db", 25)))


def speech(length: int, rng: np.random.Generator) -> _Sound:
    """Vowel-like sound with the rhythm of syllables: a gliding glottal pulse train through two moving resonances."""
    result = np.zeros(length)
    at = 0
    while at < length:
        count = int(rng.uniform(0.09, 0.28) * SYNTH_RATE_HZ)
        time = np.arange(count) / SYNTH_RATE_HZ
        pitch = float(rng.uniform(110, 230)) * 2 ** (float(rng.uniform(-0.25, 0.1)) * time / max(time[-1], 1e-3))
        phase = np.cumsum(pitch) / SYNTH_RATE_HZ
        syllable = (phase % 1.0) - 0.5 + 0.2 * rng.normal(0, 1, count)
        for low, high in ((300, 850), (900, 2300)):
            centre = float(rng.uniform(low, high))
            b, a = butter(1, [0.9 * centre / (SYNTH_RATE_HZ / 2), 1.1 * centre / (SYNTH_RATE_HZ / 2)], "band")
            syllable = syllable + 3 * lfilter(b, a, syllable)
        piece = syllable * np.hanning(count)
        end = min(length, at + count)
        result[at:end] += piece[: end - at]
        at = end + int(rng.choice([0.02, 0.05, 0.3], p=[0.6, 0.3, 0.1]) * SYNTH_RATE_HZ)
    return result


def _speech(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    talk = speech(len(sound), rng)
    if "times_s" in step:
        heard = np.zeros(len(sound))
        for begin, end in step["times_s"]:
            heard[int(begin * SYNTH_RATE_HZ) : int(end * SYNTH_RATE_HZ)] = 1.0
        level = _rms(sound) * 10 ** (-float(step.get("snr_db", 15)) / 20)
        return np.asarray(sound + talk * heard * level / max(float(np.sqrt(np.square(talk).mean())), 1e-9))
    return _at_snr(sound, talk, float(step.get("snr_db", 15)))


def _click(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    period = 60.0 / float(step["bpm"])
    times = np.arange(float(step.get("start_s", 0.1)), len(sound) / SYNTH_RATE_HZ - 0.1, period)
    time = np.arange(int(0.06 * SYNTH_RATE_HZ)) / SYNTH_RATE_HZ
    high = float(step.get("hz", rng.choice([1000.0, 1500.0, 2400.0])))
    tick = np.sin(2 * np.pi * high * time) * np.exp(-time / 0.008) + 0.3 * rng.normal(0, 1, len(time)) * np.exp(-time / 0.002)
    level = float(np.abs(sound).max()) * 10 ** (float(step.get("level_db", -12)) / 20)
    result = sound.copy()
    for number, at in enumerate(times):
        begin = int(at * SYNTH_RATE_HZ)
        accent = 1.0 if number % int(step.get("bar", 4)) == 0 else 0.75
        result[begin : begin + len(tick)] += accent * level * tick[: len(result) - begin]
    truth["clicks_s"] = [round(float(t), 4) for t in times]
    return result


def _backing(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    other = np.zeros(len(sound))
    given = np.asarray(step["samples"], dtype=np.float64)[: len(sound)]
    if "through" in step:
        band = butter(2, [150 / (SYNTH_RATE_HZ / 2), 9000 / (SYNTH_RATE_HZ / 2)], "band", output="sos")
        arrived = add_room(sosfiltfilt(band, given).astype(np.float32), replace(ROOMS[step["through"]], noise_dbfs=None), rng)
        given = np.pad(arrived.astype(np.float64), (int(float(step.get("delay_s", 0.0)) * SYNTH_RATE_HZ), 0))[: len(sound)]
    other[: len(given)] = given
    return np.asarray(sound + other * (_rms(sound) / max(_rms(other), 1e-9)) * 10 ** (float(step.get("level_db", -15)) / 20))


def _phone(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    low, high = float(step.get("low_hz", 300)), float(step.get("high_hz", 3400))
    sos = butter(4, [low / (SYNTH_RATE_HZ / 2), high / (SYNTH_RATE_HZ / 2)], "band", output="sos")
    return np.asarray(sosfiltfilt(sos, sound))


def _gain(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    """A compressor with fast attack and slow release that pulls everything to one level."""
    hop = SYNTH_RATE_HZ // 200
    level = np.sqrt(np.square(sound[: len(sound) // hop * hop]).reshape(-1, hop).mean(axis=1))
    keep = np.exp(-1 / (200 * float(step.get("release_s", 0.8))))
    envelope = np.zeros(len(level))
    held = 0.0
    for k, value in enumerate(level.tolist()):
        held = max(value, held * keep)
        envelope[k] = held
    target = _rms(sound)
    most = 10 ** (float(step.get("depth_db", 15)) / 20)
    gain = np.clip(target / np.maximum(envelope, 1e-6), 1 / most, most)
    return np.asarray(sound * np.interp(np.arange(len(sound)), np.arange(len(gain)) * hop, gain))


def _clip(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    peak = float(np.abs(sound).max())
    return np.asarray(np.clip(sound / max(peak, 1e-9) * 10 ** (float(step.get("over_db", 8)) / 20), -0.999, 0.999))


def _dropout(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    result, length = sound.copy(), int(float(step.get("ms", 90)) / 1000 * SYNTH_RATE_HZ)
    places = rng.uniform(0.1, 0.9, int(step.get("count", 3))) * len(sound)
    for begin in places.astype(int):
        result[begin : begin + length] = 0.0
    truth["dropouts_s"] = [round(float(b / SYNTH_RATE_HZ), 3) for b in sorted(places)]
    return result


def encode(samples: npt.NDArray[Any], codec: str, bit_rate: int, rate_hz: int = SYNTH_RATE_HZ) -> bytes:
    """Mono samples as a compressed file: ``opus`` in WebM, ``aac`` in MP4 or ``mp3``."""
    import av

    container, encoder, rate = {"opus": ("webm", "libopus", 48_000), "mp3": ("mp3", "libmp3lame", 44_100), "aac": ("mp4", "aac", 44_100)}[
        codec
    ]
    sound = (
        soxr.resample(np.asarray(samples, dtype=np.float32), rate_hz, rate) if rate != rate_hz else np.asarray(samples, dtype=np.float32)
    )
    buffer = io.BytesIO()
    with av.open(buffer, "w", format=container) as output:
        stream = output.add_stream(encoder, rate=rate, layout="mono")
        stream.bit_rate = bit_rate
        resampler = av.AudioResampler(format=stream.codec_context.format, layout="mono", rate=rate)
        for begin in range(0, len(sound), 4096):
            frame = av.AudioFrame.from_ndarray(sound[None, begin : begin + 4096], format="fltp", layout="mono")
            frame.sample_rate, frame.pts = rate, begin
            for ready in resampler.resample(frame):
                output.mux(stream.encode(ready))
        output.mux(stream.encode(None))
    return buffer.getvalue()


def _codec(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    import av

    data = encode(np.clip(sound, -1, 1), str(step.get("name", "opus")), int(step.get("bit_rate", 24_000)))
    pieces, rate = [], SYNTH_RATE_HZ
    with av.open(io.BytesIO(data)) as source:
        for frame in source.decode(audio=0):
            rate = frame.sample_rate
            data_of = frame.to_ndarray().astype(np.float64)
            pieces.append(data_of.mean(axis=0) / (32768.0 if frame.format.name.startswith("s16") else 1.0))
    decoded = np.concatenate(pieces)
    back = soxr.resample(decoded, rate, SYNTH_RATE_HZ) if rate != SYNTH_RATE_HZ else decoded
    delay = _delay(sound, back)
    back = back[delay:] if delay >= 0 else np.pad(back, (-delay, 0))
    return np.asarray(np.pad(back, (0, max(0, len(sound) - len(back))))[: len(sound)])


def _delay(before: _Sound, after: _Sound) -> int:
    """Samples by which a codec delays, at most 0.2 s, by correlation: it must not shift the truth."""
    most, length = SYNTH_RATE_HZ // 5, min(len(before), len(after), SYNTH_RATE_HZ * 8)
    size = 2 * length
    correlation = np.fft.irfft(np.fft.rfft(after[:length], size) * np.conj(np.fft.rfft(before[:length], size)), size)
    window = np.concatenate((correlation[-most:], correlation[:most]))
    return int(np.argmax(window)) - most


def _rate(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    low = float(step.get("hz", 16_000))
    back = soxr.resample(soxr.resample(sound, SYNTH_RATE_HZ, low), low, SYNTH_RATE_HZ)
    return np.asarray(np.pad(back, (0, max(0, len(sound) - len(back))))[: len(sound)])


def _cut(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    begin = float(step.get("start_s", 0.0))
    truth["shift_s"] += begin
    end = int(float(step["end_s"]) * SYNTH_RATE_HZ) if "end_s" in step else len(sound)
    return sound[int(begin * SYNTH_RATE_HZ) : end]


def _applause(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    length = int(float(step.get("length_s", 3.0)) * SYNTH_RATE_HZ)
    claps = np.zeros(length)
    burst = rng.normal(0, 1, SYNTH_RATE_HZ // 50) * np.exp(-np.arange(SYNTH_RATE_HZ // 50) / (0.004 * SYNTH_RATE_HZ))
    for at in rng.uniform(0, length - len(burst), int(length / SYNTH_RATE_HZ * 60)).astype(int):
        claps[at : at + len(burst)] += burst * rng.uniform(0.3, 1.0)
    claps *= np.hanning(length) ** 0.3 * float(np.abs(sound).max()) * 10 ** (float(step.get("level_db", -10)) / 20) / np.abs(claps).max()
    return np.concatenate((sound, claps))


def _quiet(sound: _Sound, step: Degradation, rng: np.random.Generator, truth: dict[str, Any]) -> _Sound:
    return np.asarray(sound * 10 ** (float(step.get("db", -30)) / 20))


_STEPS: dict[str, Callable[[_Sound, Degradation, np.random.Generator, dict[str, Any]], _Sound]] = {
    "noise": _noise,
    "hum": _hum,
    "speech": _speech,
    "click": _click,
    "backing": _backing,
    "phone": _phone,
    "gain": _gain,
    "clip": _clip,
    "dropout": _dropout,
    "codec": _codec,
    "rate": _rate,
    "cut": _cut,
    "applause": _applause,
    "quiet": _quiet,
}
