"""The isolated side: reads one request from standard input, runs one reader, writes one answer. Only ``run`` starts it."""

from __future__ import annotations

import json
import os
import resource
import sys
from collections.abc import Callable
from dataclasses import asdict
from typing import IO, Any

from didactor.core.errors import CoreError


def _score(source: IO[bytes], options: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
    """The pieces in a file of any notation: prepared XML one after the other, with a summary of each and its length."""
    from didactor.core.score.read.formats import to_musicxml
    from didactor.core.score.read.musicxml import MAX_XML_BYTES, prepare, read
    from didactor.core.score.summary import summary

    heads, body = [], b""
    for xml, problems in to_musicxml(source.read(MAX_XML_BYTES + 1)):
        prepared = prepare(xml)
        head = summary(read(prepared))
        head["problems"] = [asdict(p) for p in problems] + head["problems"]
        heads.append({**head, "bytes": len(prepared)})
        body += prepared
    return {"pieces": heads}, body


def _engrave(source: IO[bytes], options: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
    """Some bars of one part as SVG, with its geometry."""
    from didactor.core.score.read.musicxml import read
    from didactor.core.score.roadmap import bars_between
    from didactor.core.score.write.engraving import engrave

    prepared = source.read()
    part = read(prepared).parts[options["part"] - 1]
    bars = bars_between(part, options.get("bars"))
    drawn = engrave(prepared, part, bars, options["layout"])
    return {"geometry": drawn.geometry, "svg": drawn.svg}, b""


def _sound(source: IO[bytes], options: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
    """Mono samples (float32, little endian), with what was met while decoding; with ``copy``, a seekable copy behind them."""
    import numpy as np

    from didactor.core.sound.decode import decode
    from didactor.core.sound.playback import encode_playback

    head, body = decode(source)
    if options.get("copy"):
        head["copy"], copy = encode_playback(np.frombuffer(body, dtype="<f4"))
        head["copy"]["bytes"] = len(copy)
        body += copy
    return head, body


TOOLS: dict[str, Callable[[IO[bytes], dict[str, Any]], tuple[dict[str, Any], bytes]]] = {
    "score": _score,
    "engrave": _engrave,
    "sound": _sound,
}


def main(tool: str, limits: str) -> None:
    for name, (soft, hard) in json.loads(limits).items():
        resource.setrlimit(getattr(resource, name), (soft, hard))
    request = json.loads(sys.stdin.buffer.read())
    with os.fdopen(request["source"], "rb") as source, os.fdopen(request["answer"], "wb") as answer:
        source.seek(0)
        try:
            head, body = TOOLS[tool](source, request["options"])
        except CoreError as error:
            head, body = {"error": type(error).__name__, "code": error.code, "message": error.message}, b""
        answer.write(json.dumps(head).encode() + b"\n")
        answer.write(body)
