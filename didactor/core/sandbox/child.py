"""The isolated side: reads one request from standard input, runs one reader, writes one answer. Only ``run`` starts it."""

from __future__ import annotations

import base64
import importlib
import json
import os
import resource
import sys
from collections.abc import Callable
from dataclasses import asdict
from traceback import format_exception
from typing import IO, Any

from didactor.core.errors import CoreError, SandboxError
from didactor.core.sandbox.confine import TOO_OPEN, UNFORESEEN, confine, suffices
from didactor.core.words import _, keep, worded

Tool = Callable[[IO[bytes], dict[str, Any]], tuple[dict[str, Any], bytes]]


def _probe(source: IO[bytes], options: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
    """Nothing is read: the answer is only which layers hold."""
    return {}, b""


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


def _picture(source: IO[bytes], options: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
    """The picture of a film in a container of its own."""
    from didactor.core.sound.picture import copy_picture

    return copy_picture(source)


#: What each tool imports is there before the process confines itself.
TOOLS: dict[str, Tool] = {
    "probe": _probe,
    "score": _score,
    "engrave": _engrave,
    "sound": _sound,
    "picture": _picture,
}


_KIND = {"score": "ScoreError", "engrave": "ScoreError", "sound": "AudioError", "picture": "AudioError", "probe": "SandboxError"}
_NOT_UNDERSTOOD = {
    "score": _("This score is written in a way that could not be understood. Export it again, as MusicXML if you can."),
    "engrave": _("These bars could not be engraved. Choose fewer bars, or export the score again."),
    "sound": _("This recording is stored in a way that could not be understood. Send WAV, FLAC, MP3, OGG or M4A."),
    "picture": _("The picture of this film could not be read."),
    "probe": "",
}
_IMPORTS = {
    "score": ("didactor.core.score.read.formats", "didactor.core.score.read.musicxml", "didactor.core.score.summary"),
    "engrave": ("didactor.core.score.write.engraving", "didactor.core.score.read.musicxml", "didactor.core.score.roadmap"),
    "sound": ("didactor.core.sound.decode", "didactor.core.sound.playback"),
    "picture": ("didactor.core.sound.picture",),
}


def main(tool: str, limits: str) -> None:
    for name, (soft, hard) in json.loads(limits).items():
        resource.setrlimit(getattr(resource, name), (soft, hard))
    for module in _IMPORTS.get(tool, ()):
        importlib.import_module(module)
    if tool == "score":
        importlib.import_module("didactor.core.score.read.formats").all_formats()
    request = json.loads(sys.stdin.buffer.read())
    layers = confine(sys.argv[1], base64.b64decode(request["filter"]))
    with os.fdopen(request["source"], "rb") as source, os.fdopen(request["answer"], "wb") as answer:
        source.seek(0)
        try:
            if request["strict"] and tool != "probe" and not suffices(layers):
                raise SandboxError(
                    TOO_OPEN,
                    worded(
                        "This server cannot read files from outside safely, so it reads none: whoever runs it has to look at its sandbox."
                    ),
                )
            head, body = TOOLS[tool](source, request["options"])
        except MemoryError:
            raise  # its limit: the parent says so
        except CoreError as error:
            head, body = {"error": type(error).__name__, "code": error.code, "message": keep(error.message)}, b""
        except Exception as error:
            # A reader that did not foresee this file. Whoever sent it gets words; the rest is for whoever mends the reader.
            message = keep(_NOT_UNDERSTOOD[tool])
            head = {"error": _KIND[tool], "code": UNFORESEEN, "message": message, "unforeseen": "".join(format_exception(error)[-4:])}
            body = b""
        answer.write(json.dumps({**head, "layers": layers}).encode() + b"\n")
        answer.write(body)
