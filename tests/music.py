"""Tiny scores and takes for the tests."""

from __future__ import annotations

import io
from functools import cache
from typing import Any

import numpy as np
import soxr

from didactor.core.instruments import BY_SLUG
from didactor.core.score.expected import Expectation, expect
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate, wav_bytes
from didactor.core.sound.recording import RATE_HZ, Recording

#: Eight bars in D with an anacrusis, a tie, a triplet, a rest, repeated notes and runs.
TUNE = (
    "A4:q | D5:q E5:e F#5:e G5:q A5:q | F#5:h~ F#5:e E5:e D5:q | E5:e3 F#5:e3 G5:e3 A5:q B5:q A5:q | D5:h. r:q | "
    "B4:q B4:q C#5:q D5:q | E5:q D5:e C#5:e B4:q G4:q | A4:q C#5:q E5:q G5:q | F#5:q E5:q D5:h"
)


def musicxml(text: str = TUNE, **line: Any) -> bytes:
    return write_musicxml([Line(text=text, **{"fifths": 2, **line})], title="Test tune")


@cache
def expectation(text: str = TUNE, bars: str | None = None, order: str | None = None, **line: Any) -> Expectation:
    return expect(read(prepare(musicxml(text, **line))).parts[0], bars, order)


@cache
def _take(faults: tuple[tuple[tuple[str, Any], ...], ...], instrument: str, tempo: float, text: str, room: str, seed: int) -> np.ndarray:
    style = Style(scatter_ms=7.0, wander_percent=0.6)
    take = simulate(expectation(text), BY_SLUG[instrument], tempo, faults=[dict(f) for f in faults], style=style, room=room, seed=seed)
    return take.samples


def played(
    *faults: dict[str, Any], instrument: str = "clarinet", tempo: float = 92.0, text: str = TUNE, room: str = "bedroom", seed: int = 3
) -> Recording:
    """A take of the tune by the simulated player, as decoded."""
    samples = _take(tuple(tuple(sorted(f.items())) for f in faults), instrument, tempo, text, room, seed)
    return Recording(samples=soxr.resample(samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32))


def wav(*faults: dict[str, Any], **options: Any) -> bytes:
    """The same as the bytes of a WAV file."""
    return wav_bytes(np.asarray(played(*faults, **options).samples), RATE_HZ)


def tone(seconds: float = 1.0, level: float = 0.3, hz: float = 440.0) -> bytes:
    time = np.arange(int(seconds * 16000)) / 16000
    return wav_bytes((level * np.sin(2 * np.pi * hz * time)).astype(np.float32), 16000)


def silence(seconds: float = 3.0) -> bytes:
    return wav_bytes(np.zeros(int(seconds * 16000), dtype=np.float32), 16000)


def video_without_sound() -> bytes:
    import av

    buffer = io.BytesIO()
    with av.open(buffer, "w", format="matroska") as container:
        stream = container.add_stream("mpeg4", rate=10)
        stream.width = stream.height = 64
        stream.pix_fmt = "yuv420p"
        for _ in range(10):
            container.mux(stream.encode(av.VideoFrame.from_ndarray(np.zeros((64, 64, 3), dtype=np.uint8), format="rgb24")))
        container.mux(stream.encode(None))
    return buffer.getvalue()


def encoded(samples: np.ndarray, rate: int, codec: str, container_format: str) -> bytes:
    """Samples in another codec, as phones and browsers send them."""
    import av

    buffer = io.BytesIO()
    target = {"libopus": 48_000, "libopencore_amrnb": 8_000}.get(codec, 44_100)
    sound = soxr.resample(samples, rate, target)
    with av.open(buffer, "w", format=container_format) as container:
        stream = container.add_stream(codec, rate=target, layout="mono")
        resampler = av.AudioResampler(format=stream.format, layout="mono", rate=target)
        frame = av.AudioFrame.from_ndarray(sound[None].astype(np.float32), format="flt", layout="mono")
        frame.sample_rate = target
        fifo = av.AudioFifo()
        for piece in resampler.resample(frame):
            fifo.write(piece)
        size = stream.codec_context.frame_size or 1024
        while (piece := fifo.read(size)) is not None:
            container.mux(stream.encode(piece))
        if (piece := fifo.read(size, partial=True)) is not None:
            container.mux(stream.encode(piece))
        container.mux(stream.encode(None))
    return buffer.getvalue()
