"""Whatever notation a file holds, as MusicXML: told apart by its content, not by its name.

A new format is one module (or package) here that calls ``register``.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache, cached_property

from didactor.core.errors import Problem, ScoreError
from didactor.core.score.write.draft import without_control_signs
from didactor.core.words import worded

#: As MusicXML, with what was not understood.
Found = tuple[bytes, list[Problem]]


@dataclass(frozen=True)
class Sample:
    """A file to be told apart."""

    data: bytes

    @cached_property
    def head(self) -> bytes:
        """Its beginning, without byte order mark and blank space."""
        return self.data[:4096].lstrip(b"\xef\xbb\xbf \t\r\n")

    @cached_property
    def text(self) -> str:
        """The file as text, without signs that XML cannot hold; empty where it is none."""
        if b"\x00" in self.data[:4096]:
            return ""
        try:
            text = self.data.decode("utf-8-sig")
        except UnicodeDecodeError:
            text = self.data.decode("latin-1")
        return without_control_signs(text)


@dataclass(frozen=True, slots=True, kw_only=True)
class Format:
    """A kind of notation. ``recognises`` is asked in the order of ``place``; ``read`` gives the pieces in the file (there may be many).

    ``read`` raises ``ScoreError`` for a damaged file.
    """

    title: str
    suffixes: tuple[str, ...]
    place: int
    recognises: Callable[[Sample], bool]
    read: Callable[[Sample], list[Found]] = field(repr=False)


_FORMATS: list[Format] = []


def register(entry: Format) -> None:
    _FORMATS.append(entry)


@cache
def all_formats() -> tuple[Format, ...]:
    """Every format, in the order in which they are asked."""
    package = __name__.rpartition(".")[0]
    for module in sorted(m.name for m in pkgutil.iter_modules(importlib.import_module(package).__path__)):
        importlib.import_module(f"{package}.{module}")
    return tuple(sorted(_FORMATS, key=lambda f: f.place))


def suffixes() -> tuple[str, ...]:
    """Endings of file names that a page may offer."""
    return tuple(dict.fromkeys(suffix for entry in all_formats() for suffix in entry.suffixes))


def to_musicxml(data: bytes) -> list[Found]:
    """The pieces in a file, each as MusicXML with what was not understood.

    Raises:
        ScoreError: nothing that is known here, or damaged.
    """
    sample = Sample(data)
    for entry in all_formats():
        if entry.recognises(sample):
            return entry.read(sample)
    known = [entry.title for entry in all_formats()]
    raise ScoreError(
        "score.not_notation",
        worded("This is no notation that can be read here. Use {known} or {known_2}.", known=", ".join(known[:-1]), known_2=known[-1]),
    )
