"""A film of our own making: a drawn hand that beats time, with the sound of a performance."""

from __future__ import annotations

import io

import av
import numpy as np
import numpy.typing as npt

from didactor.core.sound.player.rooms import SYNTH_RATE_HZ, Samples

WIDTH, HEIGHT, FRAMES_PER_S = 320, 240, 15
PAPER, INK, SEA = (250, 246, 236), (40, 36, 30), (31, 84, 92)


def film_of(samples: Samples, beats_s: list[float]) -> bytes:
    """A WebM (VP8, Opus) of a hand that falls on every beat at ``beats_s``, the first of each bar lower than the others."""
    buffer = io.BytesIO()
    with av.open(buffer, "w", format="webm") as container:
        picture = container.add_stream("libvpx", rate=FRAMES_PER_S)
        picture.width, picture.height, picture.pix_fmt, picture.bit_rate = WIDTH, HEIGHT, "yuv420p", 200_000
        sound = container.add_stream("libopus", rate=48_000, layout="mono")
        resampler = av.AudioResampler(format="s16", layout="mono", rate=48_000, frame_size=960)
        for number in range(int(len(samples) / SYNTH_RATE_HZ * FRAMES_PER_S)):
            frame = av.VideoFrame.from_ndarray(_picture(number / FRAMES_PER_S, beats_s), format="rgb24")
            frame.pts = number
            container.mux(picture.encode(frame))
        container.mux(picture.encode(None))
        given = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples[None]), format="fltp", layout="mono")
        given.sample_rate, given.pts = SYNTH_RATE_HZ, 0
        for frame in (*resampler.resample(given), *resampler.resample(None)):
            container.mux(sound.encode(frame))
        container.mux(sound.encode(None))
    return buffer.getvalue()


def _picture(time_s: float, beats_s: list[float]) -> npt.NDArray[np.uint8]:
    image = np.empty((HEIGHT, WIDTH, 3), dtype=np.uint8)
    image[:] = PAPER
    image[190:192, 40:280] = INK
    index = int(np.searchsorted(beats_s, time_s, side="right")) - 1
    here = beats_s[index] if index >= 0 else 0.0
    later = beats_s[index + 1] if index + 1 < len(beats_s) else here + 1.0
    share = float(np.clip((time_s - here) / max(0.1, later - here), 0, 1))
    height = 130 * np.sin(np.pi * share) ** 0.8
    side = 60 * np.sin(2 * np.pi * share) * (1 if index % 2 else -1)
    _disc(image, 160 + side, 176 - height, 15, SEA)
    if index >= 0 and time_s - here < 0.12:
        _disc(image, 160, 191, 6, INK)
    return image


def _disc(image: npt.NDArray[np.uint8], x: float, y: float, radius: float, colour: tuple[int, int, int]) -> None:
    rows, columns = np.ogrid[:HEIGHT, :WIDTH]
    image[np.hypot(columns - x, rows - y) <= radius] = colour
