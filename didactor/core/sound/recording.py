"""A decoded recording, and opening one from outside through the sandbox."""

from __future__ import annotations

from dataclasses import dataclass
from typing import IO

import numpy as np
import numpy.typing as npt

from didactor.core.errors import AudioError, Problem, SandboxError
from didactor.core.sandbox.confine import TOO_OPEN
from didactor.core.sandbox.run import Limits, run_isolated
from didactor.core.words import worded

#: Working sample rate of everything after decoding.
RATE_HZ = 32_000
MAX_DURATION_S = 20 * 60.0
MAX_FILE_BYTES = 1024**3

#: Samples of the longest recording, and its copy for playing back (112 kbit/s) behind them.
SOUND_LIMITS = Limits(cpu_s=120, wall_s=180.0, output=int((RATE_HZ * 4 + 20_000) * (MAX_DURATION_S + 5)))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Recording:
    """Mono samples at ``RATE_HZ`` (float32, shape ``(n,)``, read-only) and what the decoder met.

    ``clipped_s`` and ``gaps_s`` are (start, end) times at the source's own rate, before any resampling could hide them.
    """

    samples: npt.NDArray[np.float32]
    container: str = "wav"
    codec: str = "pcm"
    source_rate_hz: int = RATE_HZ
    has_video: bool = False
    clipped_s: tuple[tuple[float, float], ...] = ()
    gaps_s: tuple[tuple[float, float], ...] = ()
    problems: tuple[Problem, ...] = ()

    def __post_init__(self) -> None:
        if self.samples.ndim != 1 or self.samples.dtype != np.float32:
            raise ValueError("samples must be mono float32")
        if not np.isfinite(self.samples).all():
            raise ValueError("samples must be finite")
        self.samples.setflags(write=False)

    @property
    def duration_s(self) -> float:
        return len(self.samples) / RATE_HZ


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaybackCopy:
    """A seekable MP4 for browsers, its delay behind the original, and the peaks of its waveform (0..1)."""

    body: bytes
    delay_s: float
    duration_s: float
    peaks: tuple[float, ...]


def open_recording(source: IO[bytes]) -> Recording:
    """Decode an untrusted audio or video file in the sandbox.

    Raises:
        AudioError: not a recording, no sound in it, or longer than ``MAX_DURATION_S``; the words say what to do.
    """
    return _open(source, copy=False)[0]


def open_with_copy(source: IO[bytes]) -> tuple[Recording, PlaybackCopy]:
    """As ``open_recording``, and a copy for playing back made in the same run of the sandbox."""
    recording, copy = _open(source, copy=True)
    if copy is None:
        raise AudioError("audio.no_copy", worded("The recording was read, but no copy for playing back could be made."))
    return recording, copy


def _open(source: IO[bytes], copy: bool) -> tuple[Recording, PlaybackCopy | None]:
    try:
        answer = run_isolated("sound", source, {"copy": copy}, SOUND_LIMITS)
    except SandboxError as error:
        if error.code == TOO_OPEN:
            raise
        raise AudioError(
            "audio.unreadable", worded("The recording could not be read safely: it is damaged or unpacks to far more than a take.")
        ) from error
    head, body, made = answer.head, answer.body, None
    if copy:
        entry = head["copy"]
        body, copied = body[: -entry["bytes"]], body[-entry["bytes"] :]
        made = PlaybackCopy(body=copied, delay_s=entry["delay_s"], duration_s=entry["duration_s"], peaks=tuple(entry["peaks"]))
    recording = Recording(
        samples=np.frombuffer(body, dtype="<f4").astype(np.float32),
        container=head["container"],
        codec=head["codec"],
        source_rate_hz=head["source_rate_hz"],
        has_video=head["has_video"],
        clipped_s=tuple((a, b) for a, b in head["clipped_s"]),
        gaps_s=tuple((a, b) for a, b in head["gaps_s"]),
        problems=tuple(Problem(**p) for p in head["problems"]),
    )
    return recording, made
