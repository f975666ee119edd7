"""Damaged and made-up files as they come from outside: is each read or refused with words, within its limits?

    bench/malformed             1,000 scores and 1,000 recordings
    bench/malformed --count 100 so many of each only
    bench/malformed --seed 5    others
    bench/malformed --write     also refreshes its part of docs/benchmarks.md

Scores of every kind and recordings in every container are cut off, spliced, overwritten, told wrong lengths and absurd numbers; a third are
made and not damaged (``odd_files``): chunks and sub-formats of WAV, texts of a megabyte, elements in elements. One file of two hundred is
thrown dice. All go the way of an upload: the sandbox with its limits. Told apart are: read; refused by its reader; stopped by the sandbox
(memory, time, a reader that died). Anything else is an error of ours, what a reader did not foresee as well, though its sender gets words.
The last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import io
import multiprocessing
import os
import re
import resource
import sys
import tempfile
import time
from collections import Counter
from copy import deepcopy
from pathlib import Path
from typing import IO, Any

HERE = Path(__file__).resolve().parent
ROOT = HERE.parent
sys.path[:0] = [str(ROOT), str(HERE)]

import av  # noqa: E402
import numpy as np  # noqa: E402
from lxml import etree  # noqa: E402
from odd_files import RECORDINGS, SCORES  # noqa: E402
from report import close  # noqa: E402

from didactor.core.errors import CoreError, SandboxError  # noqa: E402
from didactor.core.sandbox.run import UNFORESEEN  # noqa: E402
from didactor.core.score.expected import expect  # noqa: E402
from didactor.core.score.open import read_isolated  # noqa: E402
from didactor.core.score.read.musicxml import read  # noqa: E402
from didactor.core.sound.recording import SOUND_LIMITS, open_with_copy  # noqa: E402
from tests.music import played  # noqa: E402

CONTAINERS = {
    "wav": "pcm_s16le",
    "flac": "flac",
    "ogg": "libopus",
    "mp3": "libmp3lame",
    "webm": "libopus",
    "mp4": "aac",
    "mov": "aac",
    "aiff": "pcm_s16be",
}
NUMBERS = (b"-1", b"0", b"999999999", b"1e308", b"nan", b"\xc2\xb2", b"-0.5", b"2147483648", b"")
TEXTS = {
    ".cho": b"{title: Made up}\n{tempo: 90}\n[G]One and [C]two and [D]three and [G]four\n",
    ".mid": b"MThd\x00\x00\x00\x06\x00\x00\x00\x01\x01\xe0MTrk\x00\x00\x00\x16\x00\x90<@\x83`\x80<@\x00\x90>@\x83`\x80>@\x00\xff/\x00",
}


def recordings() -> dict[str, bytes]:
    """One take in every container, a few seconds each."""
    sound = np.asarray(played().samples)[: 6 * 24_000]
    found = {}
    for name, codec in CONTAINERS.items():
        out = io.BytesIO()
        with av.open(out, "w", format={"mov": "mov", "ogg": "ogg"}.get(name, name)) as container:
            stream = container.add_stream(codec, rate=48_000)
            samples = (np.repeat(sound, 2) * 20_000).astype(np.int16)
            for at in range(0, len(samples), 960):
                frame = av.AudioFrame.from_ndarray(samples[None, at : at + 960], format="s16", layout="mono")
                frame.sample_rate, frame.pts = 48_000, at
                container.mux(stream.encode(frame))
            container.mux(stream.encode(None))
        found[name] = out.getvalue()
    return found


def scores() -> dict[str, bytes]:
    found = {path.name: path.read_bytes() for path in sorted((ROOT / "didactor" / "demo" / "scores").glob("*.musicxml"))}
    return {**found, **{f"made-up{suffix}": text for suffix, text in TEXTS.items()}}


def damaged(body: bytes, other: bytes, rng: np.random.Generator) -> bytes:
    """One file with one to four kinds of damage."""
    if rng.integers(200) == 0:
        return rng.bytes(int(rng.integers(1, 50_000)))
    # Most damage of bytes ends at the XML reader: of every four scores three are well-formed, and wrong as music.
    if body.startswith(b"<?xml") and rng.integers(4):
        return _wrong_as_music(body, rng)
    for _ in range(int(rng.integers(1, 5))):
        body = DAMAGES[int(rng.integers(len(DAMAGES)))](body, other, rng)
    return body


def _wrong_as_music(body: bytes, rng: np.random.Generator) -> bytes:
    """Well-formed still, with elements gone, doubled, elsewhere, and numbers and names that make no sense."""
    root = etree.fromstring(body, etree.XMLParser(resolve_entities=False, no_network=True))
    for _ in range(int(rng.integers(1, 8))):
        elements = [e for e in root.iter() if isinstance(e.tag, str) and e.getparent() is not None]
        one, other = (elements[int(rng.integers(len(elements)))] for _ in range(2))
        parent = one.getparent()
        match int(rng.integers(5)):
            case 0:
                parent.remove(one)
            case 1:
                for _ in range(int(rng.integers(1, 30))):
                    parent.append(deepcopy(one))
            case 2 if one not in list(other.iterancestors()) and one is not other:
                other.append(one)
            case 3:
                one.text = NUMBERS[int(rng.integers(len(NUMBERS)))].decode()
            case _:
                for name in one.attrib:
                    one.set(name, NUMBERS[int(rng.integers(len(NUMBERS)))].decode())
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8")


def _place(body: bytes, rng: np.random.Generator) -> int:
    # Half of the damage is where headers are.
    most = min(len(body), 400) if rng.integers(2) else len(body)
    return int(rng.integers(0, max(1, most)))


def _cut(body: bytes, other: bytes, rng: np.random.Generator) -> bytes:
    return body[: _place(body, rng)]


def _flipped(body: bytes, other: bytes, rng: np.random.Generator) -> bytes:
    changed = bytearray(body)
    for _ in range(int(rng.integers(1, 40))):
        if changed:
            changed[_place(bytes(changed[:1]) * len(changed), rng)] ^= 1 << int(rng.integers(8))
    return bytes(changed)


def _overwritten(body: bytes, other: bytes, rng: np.random.Generator) -> bytes:
    at, length = _place(body, rng), int(rng.integers(1, 64))
    filled = [bytes(length), b"\xff" * length, rng.bytes(length)][int(rng.integers(3))]
    return body[:at] + filled + body[at + length :]


def _spliced(body: bytes, other: bytes, rng: np.random.Generator) -> bytes:
    return body[: _place(body, rng)] + other[_place(other, rng) :]


def _repeated(body: bytes, other: bytes, rng: np.random.Generator) -> bytes:
    at, length = _place(body, rng), int(rng.integers(1, 2000))
    return body[:at] + body[at : at + length] * int(rng.integers(2, 200)) + body[at:]


def _told_wrong(body: bytes, other: bytes, rng: np.random.Generator) -> bytes:
    """Four bytes where a length may stand, or a number of a text."""
    numbers = list(re.finditer(rb">(-?\d+)<", body))
    if numbers:
        for _ in range(int(rng.integers(1, 6))):
            match = numbers[int(rng.integers(len(numbers)))]
            body = body[: match.start(1)] + NUMBERS[int(rng.integers(len(NUMBERS)))] + body[match.end(1) :]
        return body
    at = _place(body, rng)
    told = int(rng.choice([0, 1, 2**31 - 1, 2**32 - 1, 2**24])).to_bytes(4, ["little", "big"][int(rng.integers(2))])  # type: ignore[arg-type]
    return body[:at] + told + body[at + 4 :]


def _taken_out(body: bytes, other: bytes, rng: np.random.Generator) -> bytes:
    at = _place(body, rng)
    return body[:at] + body[at + int(rng.integers(1, 3000)) :]


DAMAGES = (_cut, _flipped, _overwritten, _spliced, _repeated, _told_wrong, _taken_out)


def score_of(source: IO[bytes]) -> None:
    """As the library reads it: what is in the file, then what is expected of each part."""
    for _, prepared in read_isolated(source):
        for part in read(prepared).parts:
            if part.notes:
                expect(part)


def one(kind: str, name: str, body: bytes) -> tuple[str, float, str]:
    """How a file fared, in how many seconds, and which it was."""
    began = time.monotonic()
    outcome = "read"
    with tempfile.TemporaryFile() as source:
        source.write(body)
        source.flush()
        source.seek(0)
        try:
            (score_of if kind == "scores" else open_with_copy)(source)
        except CoreError as error:
            stopped = isinstance(error, SandboxError) or isinstance(error.__cause__, SandboxError)
            outcome = "stopped" if stopped else "refused" if error.message.strip() else "ours"
            if error.code == UNFORESEEN:
                return "ours", time.monotonic() - began, f"{name}: {error.__cause__}"
        except Exception as error:
            return "ours", time.monotonic() - began, f"{name}: {type(error).__name__}: {error}"
    return outcome, time.monotonic() - began, name


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=77)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    figures: dict[str, Any] = {}
    rows = ["| files | read | refused with words | stopped at a limit | errors of ours | slowest, s |", "|---|---|---|---|---|---|"]
    for kind, whole, odd in (("scores", scores(), SCORES), ("recordings", recordings(), RECORDINGS)):
        names = list(whole)
        # Before anything is damaged: each of them is one that we read.
        fine = [one(kind, name, whole[name]) for name in names]
        jobs = []
        for number in range(options.count):
            rng = np.random.default_rng((options.seed, number, len(kind)))
            name, other = names[number % len(names)], names[int(rng.integers(len(names)))]
            if number % 3 == 2:
                make = odd[number // 3 % len(odd)]
                jobs.append((kind, make.__name__, make(rng)))
            else:
                jobs.append((kind, name, damaged(whole[name], whole[other], rng)))
        with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
            fared = pool.starmap(one, jobs, chunksize=8)
        counts = Counter(outcome for outcome, _, _ in fared)
        slowest = max(seconds for _, seconds, _ in fared)
        for _, _, what in [f for f in fared if f[0] == "ours"][:5]:
            print(what, file=sys.stderr)
        for outcome, seconds, what in sorted(fared, key=lambda f: -f[1])[:3]:
            print(f"slowest: {what}, {seconds:.1f} s, {outcome}", file=sys.stderr)
        shown = " | ".join(str(counts[outcome]) for outcome in ("read", "refused", "stopped", "ours"))
        rows.append(f"| {kind} | {shown} | {slowest:.1f} |")
        figures |= {
            f"{kind}_whole_ones_read": sum(outcome == "read" for outcome, _, _ in fine),
            f"{kind}_errors_of_ours": counts["ours"],
            f"{kind}_stopped": counts["stopped"],
            f"{kind}_slowest_s": round(slowest, 1),
        }
    most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024
    figures |= {"most_memory_mb": round(most / 1e6), "within_memory": int(most <= SOUND_LIMITS.memory)}
    return close("malformed", "\n".join(rows), figures, write=options.write and options.count == 1000)


if __name__ == "__main__":
    sys.exit(main())
