"""Any common audio or video file to mono float32 at the working rate. Runs inside the sandbox.

Only listed containers and codecs are opened. Samples keep their true time: where a stream has a hole (a phone that lost
packets), the hole is filled with silence and reported, so that everything after it stays where it was played. Channels are
averaged by hand (a library's downmix scales dual mono by 1.41); where two channels cancel, the louder one is taken.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import IO, Any

import av
import numpy as np
import numpy.typing as npt
import soxr

from didactor.core.errors import AudioError, Problem
from didactor.core.sound.recording import MAX_DURATION_S, RATE_HZ
from didactor.core.words import worded

CONTAINERS = {"wav", "flac", "mp3", "ogg", "matroska", "webm", "mov", "mp4", "m4a", "3gp", "3g2", "mj2", "amr", "aac", "w64", "aiff"}
#: The same by the names of FFmpeg's readers: lists of other files (playlists, session descriptions) are not even looked into.
DEMUXERS = ("wav", "w64", "aiff", "flac", "mp3", "ogg", "aac", "amr", "matroska", "webm", "mov", "mp4", "m4a", "3gp", "3g2", "mj2")
#: No instrument is heard below this rate, and a few bytes at 1 Hz would unpack to hours.
LOWEST_RATE_HZ = 4000
CODECS = {
    "flac",
    "mp3",
    "mp3float",
    "vorbis",
    "opus",
    "libopus",
    "aac",
    "alac",
    "amrnb",
    "amr_nb",
    "amrwb",
    "amr_wb",
    "libopencore_amrnb",
    "libopencore_amrwb",
    "mp2",
    "aac_latm",
}
#: Of full scale: converters and codecs round a clipped top off by a little.
CLIP_LEVEL = 0.985
#: Consecutive full-scale samples that make a clipped place, at the source's own rate.
CLIP_RUN = 3
#: A hole in the time stamps shorter than this is jitter of the container.
MIN_GAP_S = 0.02
#: A file that announces this share more than it holds was cut off.
CUT_OFF_SHARE = 0.03

Mono = npt.NDArray[np.float32]


def decode(source: IO[bytes]) -> tuple[dict[str, Any], bytes]:
    """Decode the first audio stream.

    Returns:
        A description (container, codec, source_rate_hz, has_video, clipped_s, gaps_s, problems) and the samples,
        little-endian float32 at ``RATE_HZ``.

    Raises:
        AudioError: nothing to hear in the file, a kind that is not accepted, or too long.
    """
    size = source.seek(0, 2)
    source.seek(0)
    if size == 0:
        raise AudioError("audio.empty", worded("The file is empty. Record again, or choose another file."))
    try:
        with open_container(source) as container:
            return _decode_container(container)
    except AudioError:
        raise
    except (av.error.FFmpegError, ValueError, EOFError) as error:  # its messages hold paths: not passed on
        raise AudioError(
            "audio.not_sound",
            worded("This file is not a recording that can be read. Send WAV, FLAC, MP3, OGG, M4A, AMR, WebM, MP4 or MOV."),
        ) from error


def open_container(source: IO[bytes]) -> Any:
    """A file of a listed kind, opened with nothing of what a file can point to."""
    return av.open(source, mode="r", options={"format_whitelist": ",".join(DEMUXERS), "protocol_whitelist": "none"})


def _decode_container(container: Any) -> tuple[dict[str, Any], bytes]:
    kinds = set(container.format.name.split(","))
    if not kinds & CONTAINERS:
        raise AudioError("audio.kind", worded("This kind of file is not accepted. Send WAV, FLAC, MP3, OGG, M4A, AMR, WebM, MP4 or MOV."))
    if not container.streams.audio:
        raise AudioError(
            "audio.no_sound", worded("There is no sound in this file, only pictures. Check that the camera records sound, and try again.")
        )
    stream = container.streams.audio[0]
    # Of what it has never heard of the library makes no reader at all.
    codec = stream.codec_context.name if stream.codec_context is not None else ""
    if codec not in CODECS and not codec.startswith(("pcm_", "adpcm_")):
        raise AudioError(
            "audio.kind", worded("The sound in this file is stored in a way that is not accepted. Send WAV, FLAC, MP3, OGG or M4A.")
        )
    if stream.codec_context.sample_rate < LOWEST_RATE_HZ:
        raise AudioError(
            "audio.rate", worded("This recording has too low a sample rate to hear an instrument in it. Record with 8000 Hz or more.")
        )
    announced = _announced_s(container, stream)
    if announced and announced > MAX_DURATION_S + 1:
        raise _too_long()
    reader = _Reader()
    problems: list[Problem] = []
    try:
        for frame in container.decode(stream):
            reader.add(frame)
    except av.error.FFmpegError as error:
        if reader.seconds < 0.05:
            raise AudioError(
                "audio.damaged", worded("The recording is damaged from its beginning. Send it again, or record again.")
            ) from error
        problems.append(_cut_off(reader.seconds))
    samples = reader.finish()
    if len(samples) == 0:
        raise AudioError("audio.no_sound", worded("There is no sound in this file. Check the microphone, and record again."))
    if announced and not problems and announced - reader.seconds > max(0.5, CUT_OFF_SHARE * announced):
        problems.append(_cut_off(reader.seconds))
    head = {
        "container": container.format.name,
        "codec": codec,
        "source_rate_hz": reader.rate,
        "has_video": any(s.codec_context is not None and s.codec_context.name not in ("mjpeg", "png") for s in container.streams.video),
        "clipped_s": reader.clipped_s,
        "gaps_s": reader.gaps_s,
        "problems": [asdict(p) for p in problems],
    }
    return head, samples.astype("<f4").tobytes()


def _announced_s(container: Any, stream: Any) -> float | None:
    if stream.duration and stream.time_base:
        return float(stream.duration * stream.time_base)
    return float(container.duration / av.time_base) if container.duration else None


def _cut_off(at_s: float) -> Problem:
    return Problem(
        code="cut_off",
        text=worded("The file breaks off after {at_s:.1f} s: part of it was lost on the way.", at_s=at_s),
        start_s=at_s,
        end_s=at_s,
    )


def _too_long() -> AudioError:
    return AudioError("audio.too_long", worded("The recording is longer than 20 minutes. Record the passage alone, or cut the file."))


class _Reader:
    """Collects frames at the source's rate, mixes them to mono and resamples in chunks."""

    def __init__(self) -> None:
        self.rate = 0
        self.clipped_s: list[tuple[float, float]] = []
        self.gaps_s: list[tuple[float, float]] = []
        self._resampler: Any = None
        self._chunks: list[Mono] = []
        self._count = 0
        self._origin: float | None = None
        self._weights: tuple[float, float] | None = None

    @property
    def seconds(self) -> float:
        return self._count / self.rate if self.rate else 0.0

    def add(self, frame: Any) -> None:
        data = _to_float(frame.to_ndarray(), frame)
        if self.rate == 0:
            self.rate = frame.sample_rate
            self._resampler = soxr.ResampleStream(self.rate, RATE_HZ, 1, dtype="float32", quality="HQ")
        elif frame.sample_rate != self.rate:
            raise AudioError("audio.damaged", worded("The recording changes its sample rate midway and cannot be read. Record again."))
        self._fill_gap(frame)
        self._note_clipping(data)
        self._push(self._mix(data))
        if self.seconds > MAX_DURATION_S + 1:
            raise _too_long()

    def _fill_gap(self, frame: Any) -> None:
        if frame.pts is None or frame.time_base is None:
            return
        time = float(frame.pts * frame.time_base)
        if self._origin is None:
            self._origin = time - self.seconds
        missing = time - self._origin - self.seconds
        if MIN_GAP_S < missing < MAX_DURATION_S:
            self.gaps_s.append((self.seconds, self.seconds + missing))
            self._push(np.zeros(int(missing * self.rate), dtype=np.float32))

    def _note_clipping(self, data: Mono) -> None:
        full = (np.abs(data) >= CLIP_LEVEL).any(axis=0).astype(np.int8)
        if full.sum() < CLIP_RUN:
            return
        edges = np.flatnonzero(np.diff(np.concatenate(([0], full, [0]))))
        for start, end in zip(edges[::2], edges[1::2], strict=True):
            if end - start >= CLIP_RUN and len(self.clipped_s) < 2000:
                at = self.seconds + start / self.rate
                if self.clipped_s and at - self.clipped_s[-1][1] < 0.1:
                    self.clipped_s[-1] = (self.clipped_s[-1][0], at)
                else:
                    self.clipped_s.append((at, self.seconds + end / self.rate))

    def _mix(self, data: Mono) -> Mono:
        if data.shape[0] == 1:
            return np.asarray(data[0], dtype=np.float32)
        power = (data.astype(np.float64) ** 2).sum(axis=1)
        if self._weights is None and power.max() > 1e-4:
            # Two channels in opposite phase would cancel: then, and with a dead channel, take the louder one.
            mixed = float((data.mean(axis=0).astype(np.float64) ** 2).sum())
            cancels = mixed < 0.2 * power.max()
            self._weights = (1.0, 0.0) if cancels and power[0] >= power[1] else (0.0, 1.0) if cancels else (0.5, 0.5)
        if self._weights and self._weights != (0.5, 0.5):
            return np.asarray(data[0] if self._weights[0] else data[1], dtype=np.float32)
        return np.asarray(data.mean(axis=0), dtype=np.float32)

    def _push(self, mono: Mono) -> None:
        self._count += len(mono)
        self._chunks.append(self._resampler.resample_chunk(np.ascontiguousarray(mono, dtype=np.float32)))

    def finish(self) -> Mono:
        if self._resampler is None:
            return np.zeros(0, dtype=np.float32)
        self._chunks.append(self._resampler.resample_chunk(np.zeros(0, dtype=np.float32), last=True))
        samples = np.concatenate(self._chunks).astype(np.float32)
        return np.nan_to_num(samples, nan=0.0, posinf=0.0, neginf=0.0)


def _to_float(array: npt.NDArray[Any], frame: Any) -> Mono:
    """Any sample format to float32 of shape (channels, samples), full scale = 1."""
    channels = frame.layout.nb_channels
    if not frame.format.is_planar:
        array = array.reshape(-1, channels).T
    if array.dtype == np.uint8:
        return (array.astype(np.float32) - 128.0) / 128.0
    if np.issubdtype(array.dtype, np.integer):
        return array.astype(np.float32) / float(np.iinfo(array.dtype).max + 1)
    return np.asarray(array, dtype=np.float32)
