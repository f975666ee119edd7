"""Files that no damage makes: well-formed, and of kinds, lengths and depths that nobody sends by accident."""

from __future__ import annotations

import io
import struct
import zipfile
from collections.abc import Callable

import numpy as np

Make = Callable[[np.random.Generator], bytes]


# --- Recordings: chunks of RIFF --------------------------------------------------------------------------------------


def _chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)


def _riff(*chunks: bytes, kind: bytes = b"WAVE") -> bytes:
    body = kind + b"".join(chunks)
    return b"RIFF" + struct.pack("<I", len(body)) + body


def _format(tag: int, channels: int, rate: int, bits: int, extra: bytes = b"") -> bytes:
    align = max(1, channels * bits // 8)
    told = struct.pack("<HHIIHH", tag, channels, rate, (rate * align) & 0xFFFFFFFF, align & 0xFFFF, bits)
    return _chunk(b"fmt ", told + (struct.pack("<H", len(extra)) + extra if extra or tag == 0xFFFE else b""))


def _samples(rng: np.random.Generator) -> bytes:
    return (rng.normal(0, 4000, int(rng.integers(100, 60_000)))).astype("<i2").tobytes()


def extensible(rng: np.random.Generator) -> bytes:
    """A WAV of the extensible kind, whose sub-format may be one that nobody knows."""
    subformat = [rng.bytes(16), struct.pack("<I", int(rng.integers(0, 70_000))) + bytes.fromhex("00001000800000aa00389b71"), bytes(16)]
    extra = struct.pack("<HI", int(rng.integers(0, 64)), int(rng.integers(0, 2**32))) + subformat[int(rng.integers(3))]
    return _riff(_format(0xFFFE, int(rng.integers(0, 9)), 48_000, 16, extra), _chunk(b"data", _samples(rng)))


def unknown_codec(rng: np.random.Generator) -> bytes:
    """Any of the 65,536 tags, with rates, channels and widths of all sizes."""
    rate = int([8000, 44_100, 48_000, 1, 0, 2**31, 2**32 - 1][int(rng.integers(7))])
    bits = int([0, 1, 4, 7, 8, 16, 24, 32, 64, 65_535][int(rng.integers(10))])
    return _riff(_format(int(rng.integers(65_536)), int(rng.integers(0, 40)), rate, bits), _chunk(b"data", _samples(rng)))


def many_chunks(rng: np.random.Generator) -> bytes:
    """Chunks before, between and after what matters: empty, huge by their word, one in another, one called as it likes."""
    chunks = [_format(1, 1, 48_000, 16), _chunk(b"data", _samples(rng))]
    for _ in range(int(rng.integers(1, 400))):
        name = [b"LIST", b"fact", b"cue ", b"bext", b"JUNK", b"id3 ", b"fmt ", b"data", rng.bytes(4)][int(rng.integers(9))]
        body = _chunk(b"INFO", rng.bytes(int(rng.integers(0, 40)))) if rng.integers(2) else rng.bytes(int(rng.integers(0, 200)))
        made = _chunk(name, body)
        if rng.integers(8) == 0:
            made = made[:4] + struct.pack("<I", int(rng.integers(2**32))) + made[8:]
        chunks.insert(int(rng.integers(len(chunks) + 1)), made)
    return _riff(*chunks, kind=[b"WAVE", b"AVI ", rng.bytes(4)][int(rng.integers(3))])


def other_heads(rng: np.random.Generator) -> bytes:
    """The first bytes of one kind, the rest of none."""
    head = [
        b"fLaC",
        b"OggS\0\2",
        b"ID3\4\0\0",
        b"\xff\xfb\x90",
        b"\x1aE\xdf\xa3",
        b"\0\0\0\x20ftypM4A ",
        b"FORM",
        b"#!AMR\n",
        b"caff",
        b"RIFX",
        b"RF64",
    ]
    return head[int(rng.integers(len(head)))] + rng.bytes(int(rng.integers(0, 20_000)))


# --- Scores: long texts, deep nesting --------------------------------------------------------------------------------

_HEAD = b"X:1\nT:Made up\nM:4/4\nL:1/8\nK:C\n"
_SIGNS = [
    b"(",
    b"[CEG",
    b"{",
    b'"Am',
    b"!trill!",
    b"C>",
    b"(3",
    b"CDEF GABc ",
    b"CDEF GABc |",
    b"[K:G]",
    b"z8|",
    b"C-",
    b"C999999999/",
    b"&",
    b"w:a-b\n",
]


def long_abc(rng: np.random.Generator) -> bytes:
    """A megabyte, or some of it, of the same sign; now and then as one line, now and then as many tunes."""
    sign = _SIGNS[int(rng.integers(len(_SIGNS)))]
    count = int([10, 1000, 100_000, 1_000_000][int(rng.integers(4))]) // len(sign) + 1
    body = (sign * 8 + b"\n") * (count // 8 + 1) if rng.integers(2) else sign * count
    return _HEAD + body if rng.integers(4) else (_HEAD + body[:200] + b"\n\n") * min(3000, count)


def long_chordpro(rng: np.random.Generator) -> bytes:
    sign = [b"[C]word ", b"[", b"{c:", b"{start_of_chorus}\n", b"[C", b"{start_of_grid}\n| C . . . |\n", b"{title:x}", b"word "][
        int(rng.integers(8))
    ]
    return b"{title: Made up}\n" + sign * (int([10, 1000, 100_000][int(rng.integers(3))]) // len(sign) + 1)


def deep_xml(rng: np.random.Generator) -> bytes:
    """Elements in elements, attributes, texts and comments far beyond any score."""
    depth = int([10, 200, 300, 5000, 100_000][int(rng.integers(5))])
    name = [b"score-partwise", b"part", b"measure", b"note", b"credit", b"x"][int(rng.integers(6))]
    inner = b"<" + name + b">"
    long = b"<!--" + b"-x" * depth + b"-->" if rng.integers(2) else b"<work><work-title>" + b"x" * depth * 10 + b"</work-title></work>"
    nested = inner * depth + (b"</" + name + b">") * (depth if rng.integers(2) else depth // 2)
    return b'<?xml version="1.0"?><score-partwise version="4.0">' + long + nested + b"</score-partwise>"


def wide_xml(rng: np.random.Generator) -> bytes:
    """One bar with notes by the ten thousand, one part with bars, one score with parts."""
    note = b"<note><pitch><step>C</step><octave>4</octave></pitch><duration>1</duration><type>quarter</type></note>"
    notes, bars, parts = [(20_000, 1, 1), (1, 6000, 1), (1, 1, 3000), (50, 50, 50)][int(rng.integers(4))]
    bar = b'<measure number="1"><attributes><divisions>1</divisions></attributes>' + note * notes + b"</measure>"
    ids = [f"P{n}".encode() for n in range(parts)]
    listed = b"".join(b'<score-part id="%b"><part-name>A</part-name></score-part>' % n for n in ids)
    return (
        b"<score-partwise><part-list>"
        + listed
        + b"</part-list>"
        + b"".join(b'<part id="%b">' % n + bar * bars + b"</part>" for n in ids)
        + b"</score-partwise>"
    )


def zipped(rng: np.random.Generator) -> bytes:
    """Compressed scores that hold nothing, themselves, or a great deal of the same."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(int(rng.integers(0, 300))):
            archive.writestr(
                ["META-INF/container.xml", f"a{number}.xml", "../../etc/x", "score.musicxml"][int(rng.integers(4))],
                b"<x/>" * int(rng.integers(0, 400)),
            )
        if rng.integers(3) == 0:
            archive.writestr("score.xml", b" " * 60_000_000)
    return out.getvalue()


def long_midi(rng: np.random.Generator) -> bytes:
    """Tracks of all lengths, with events that nobody defined."""
    tracks = int(rng.integers(0, 200))
    head = b"MThd" + struct.pack(">IHHH", 6, int(rng.integers(4)), tracks, int([0, 1, 480, 0x8000, 0xE728, 65_535][int(rng.integers(6))]))
    body = b""
    for _ in range(tracks):
        events = b"".join(
            [
                b"\0\x90\x3c\x40\x60\x80\x3c\x40",
                b"\0\xff" + rng.bytes(1) + b"\x02ab",
                b"\xff\xff\xff\x7f\x90\x3c\x40",
                b"\0" + rng.bytes(3),
            ][int(rng.integers(4))]
            for _ in range(int(rng.integers(0, 60)))
        )
        body += b"MTrk" + struct.pack(">I", len(events)) + events
    return head + body


RECORDINGS: tuple[Make, ...] = (extensible, unknown_codec, many_chunks, other_heads)
SCORES: tuple[Make, ...] = (long_abc, long_chordpro, deep_xml, wide_xml, zipped, long_midi)
