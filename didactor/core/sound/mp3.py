"""Rendered sound for players in a browser."""

from __future__ import annotations

import io

import av
import numpy as np
import numpy.typing as npt

#: Samples of one MP3 frame, and what a channel is given, bits a second.
FRAME, BITS = 1152, {1: 96_000, 2: 160_000}


def mp3_of(samples: npt.NDArray[np.float32], rate_hz: int) -> bytes:
    """Samples, shape (n,) for one channel or (2, n) for left and right, full scale 1.0, as an MP3 file."""
    sound = np.atleast_2d(samples)
    layout = {1: "mono", 2: "stereo"}[len(sound)]
    buffer = io.BytesIO()
    with av.open(buffer, "w", format="mp3") as container:
        stream = container.add_stream("mp3", rate=rate_hz, layout=layout)
        stream.bit_rate = BITS[len(sound)]
        for start in range(0, sound.shape[1], FRAME):
            frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(sound[:, start : start + FRAME]), format="fltp", layout=layout)
            frame.sample_rate, frame.pts = rate_hz, start
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))
    return buffer.getvalue()
