"""The picture of a film as a seekable file for browsers. Packets are moved into a new container and never decoded.

A film from a browser has no index and no length, one from a telephone says where it was made: the copy has an index, and nothing but
the picture. It is silent: it follows the sound of the playback copy.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from typing import IO, Any

import av

from didactor.core.errors import AudioError, SandboxError
from didactor.core.sandbox.run import Limits, run_isolated
from didactor.core.sound.decode import open_container

#: What browsers show, and the container it goes into.
CONTAINER_OF = {"vp8": "webm", "vp9": "webm", "av1": "webm", "libdav1d": "webm", "h264": "mp4", "hevc": "mp4"}
#: A picture larger than this is not copied (some fifteen minutes of film from a browser): the original is there to be fetched.
MOST_BYTES = 250_000_000
LIMITS = Limits(cpu_s=60, wall_s=120.0, output=MOST_BYTES + 1_000_000)


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """``body`` is a file of kind ``container`` (``webm`` or ``mp4``); its picture lies ``delay_s`` behind the take's own time."""

    body: bytes
    container: str
    delay_s: float


def open_picture(source: IO[bytes]) -> Picture | None:
    """The picture of an untrusted film, by way of the sandbox; None where there is none that browsers show, or it is too large."""
    try:
        answer = run_isolated("picture", source, {}, LIMITS)
    except (SandboxError, AudioError):  # a machine that is busy is no reason to do without
        return None
    if not answer.body:
        return None
    return Picture(body=answer.body, container=answer.head["container"], delay_s=answer.head["delay_s"])


def copy_picture(source: IO[bytes]) -> tuple[dict[str, Any], bytes]:
    """The sandbox's side: ``container`` and ``delay_s``, and the new file; nothing where there is no picture to show."""
    with open_container(source) as film:
        stream = next((s for s in film.streams.video if s.codec_context is not None and s.codec_context.name in CONTAINER_OF), None)
        if stream is None or stream.time_base is None:
            return {}, b""
        kind = CONTAINER_OF[stream.codec_context.name]
        begins_s, packets, size = None, [], 0
        sound = film.streams.audio[0] if film.streams.audio else None
        for packet in film.demux([stream, sound] if sound else [stream]):
            if packet.pts is None or packet.time_base is None:
                continue  # the end of a stream
            if packet.stream is not stream:
                begins_s = float(packet.pts * packet.time_base) if begins_s is None else begins_s
                continue
            packets.append(packet)
            size += packet.size
            if size > MOST_BYTES:
                return {}, b""
        return _mux(packets, stream, kind, begins_s or 0.0) if packets else ({}, b"")


def _mux(packets: list[Any], stream: Any, kind: str, begins_s: float) -> tuple[dict[str, Any], bytes]:
    """``begins_s``: when in the film the sound begins, which is where a take's own time counts from."""
    first = min(p.dts if p.dts is not None else p.pts for p in packets)
    back = round(begins_s / stream.time_base)
    # Times below nothing would be moved by the container's writer without a word.
    forth = max(0, back - first)
    with os.fdopen(os.memfd_create("picture"), "w+b") as target:
        options = {"movflags": "faststart"} if kind == "mp4" else {}
        with av.open(f"/proc/self/fd/{target.fileno()}", mode="w", format=kind, options=options) as container:
            written = container.add_stream_from_template(stream)
            for packet in packets:
                packet.pts += forth - back
                if packet.dts is not None:
                    packet.dts += forth - back
                packet.stream = written
                container.mux(packet)
        target.seek(0)
        return {"container": kind, "delay_s": float(forth * stream.time_base)}, target.read()
