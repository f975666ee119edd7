"""Words for people that can be said again in another language.

A sentence is a pattern in English with values in braces, as Python's own format strings have them, and stays together with what it was
made of: ``worded("Bar {bar} is left out.", bar="7")``. It is a ``str`` in the language spoken at that moment; what is kept of it is the
pattern and the values (``keep``), so that whoever opens it reads it in theirs (``read``). Words that stand in a table at import are
marked with ``_``; they are English to a program and speak wherever they are shown.

The core speaks English. Who serves people in other languages gives it a ``Speaker``: patterns are looked up as messages of GNU gettext.
"""

from __future__ import annotations

import string
from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any, Protocol


class Speaker(Protocol):
    """Who knows the reader's language, at any moment anew."""

    def message(self, text: str) -> str: ...

    def counted(self, one: str, many: str, count: int) -> str: ...

    def note(self, name: str) -> str:
        """A note's name without its octave, written like ``Eb`` or ``F#``."""
        ...

    def decimal(self) -> str:
        """What stands between a number and its fraction."""
        ...


_FLAT_AND_SHARP = {"bb": "{note} double flat", "b": "{note} flat", "": "{note}", "#": "{note} sharp", "##": "{note} double sharp"}


class English:
    """As the patterns are."""

    def message(self, text: str) -> str:
        return text

    def counted(self, one: str, many: str, count: int) -> str:
        return one if count == 1 else many

    def note(self, name: str) -> str:
        return _FLAT_AND_SHARP[name[1:]].format(note=name[0])

    def decimal(self) -> str:
        return "."


_speaker: Speaker = English()


def speak_with(speaker: Speaker) -> None:
    """From now on all words are said by it."""
    global _speaker
    _speaker = speaker


@lru_cache(maxsize=4096)
def _parts(text: str) -> tuple[tuple[str, str | None, str], ...]:
    """What a pattern is made of: literal text, and the name of a value with how it is written."""
    return tuple((literal, name, spec or "") for literal, name, spec, _ in string.Formatter().parse(text))


def _fill(text: str, values: Mapping[str, Any]) -> str:
    """Values by their names alone: a pattern reaches into nothing. A page says hundreds of them, so each is taken apart once."""
    return "".join(literal if name is None else literal + _one(values[name], spec) for literal, name, spec in _parts(text))


def _one(value: Any, spec: str) -> str:
    text = format(value, spec)
    return text.replace(".", _speaker.decimal()) if isinstance(value, float) else text


class Words(str):
    """Words in the language they were made in, with what they were made of."""

    pattern: str
    many: str | None
    values: dict[str, Any]

    def __new__(cls, pattern: str, values: dict[str, Any], many: str | None = None, *, just_made: bool = False) -> Words:
        said = values if just_made else {name: again(value) if isinstance(value, str) else value for name, value in values.items()}
        text = _speaker.message(pattern) if many is None else _speaker.counted(pattern, many, values["count"])
        made = super().__new__(cls, _fill(text, said) if said or "{" in text else text)
        made.pattern, made.many, made.values = pattern, many, values
        return made

    def __reduce__(self) -> tuple[Any, ...]:
        """They come back whole from a process apart."""
        return type(self), (self.pattern, self.values, self.many)

    def again(self) -> Words:
        return type(self)(self.pattern, self.values, self.many)

    def kept(self) -> Any:
        values = {
            name: value if isinstance(value, int | float) else keep(value if isinstance(value, str) else str(value))
            for name, value in self.values.items()
        }
        return {"words": self.pattern, "with": values} | ({} if self.many is None else {"many": self.many})


class NoteWords(Words):
    """The name of a note, as the reader calls it."""

    def __new__(cls, pattern: str, values: dict[str, Any] | None = None, many: str | None = None) -> NoteWords:
        made = str.__new__(cls, _speaker.note(pattern))
        made.pattern, made.many, made.values = pattern, None, {}
        return made

    def kept(self) -> Any:
        return {"note": self.pattern}


class Table(str):
    """Words that stand in a table: English to a program, the reader's language wherever they are shown or put into other words."""

    def __str__(self) -> str:
        return _speaker.message(str.__str__(self))

    def __format__(self, format_spec: str) -> str:
        return format(str(self), format_spec)

    def __html__(self) -> str:
        # Templates of the web ask for it; the words are ours, with no markup in them.
        return str(self).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (str.__str__(self),)

    def lower(self) -> str:
        return str(self).lower()


def _(text: str) -> str:
    """Words of a table."""
    return Table(text)


def worded(pattern: str, /, **values: Any) -> str:
    """The pattern with its values, in the reader's language.

    Raises:
        KeyError: a value that the pattern names is missing.
    """
    return Words(pattern, values)


def counted(one: str, many: str, count: int, /, **values: Any) -> str:
    """As ``worded``, by how many there are; ``{count}`` stands for the number."""
    return Words(one, {"count": count, **values}, many)


def note_name(name: str) -> str:
    """``Eb`` or ``Eb4`` as the reader calls it, without the octave."""
    return NoteWords(name.rstrip("-0123456789"))


def listed(parts: Sequence[str]) -> str:
    """“2, 5 and 7”."""
    if len(parts) < 2:
        return "".join(map(str, parts))
    return worded("{first} and {last}", first=", ".join(map(str, parts[:-1])), last=parts[-1])


def again(text: str) -> str:
    """In the language spoken now; what was made by nobody here stays as it is."""
    if isinstance(text, Words):
        return text.again()
    return str(text) if isinstance(text, Table) else text


def is_made(value: Any) -> bool:
    """Whether these are words that more than English is kept of."""
    return isinstance(value, NoteWords) or (isinstance(value, Words) and bool(value.values))


def english(text: str) -> str:
    """As a program reads it, whatever is spoken now."""
    if isinstance(text, NoteWords):
        return English().note(text.pattern)
    if not isinstance(text, Words):
        return str.__str__(text)
    values = {name: english(value) if isinstance(value, str) else value for name, value in text.values.items()}
    pattern = text.pattern if text.many is None or values["count"] == 1 else text.many
    return string.Formatter().vformat(str.__str__(pattern), (), values) if values or "{" in pattern else str.__str__(pattern)


def keep(text: str) -> Any:
    """What a database keeps of words, as plain JSON: a string, or what they were made of."""
    if isinstance(text, Words):
        return text.kept() if is_made(text) else str.__str__(text.pattern)
    return str.__str__(text)


def _kept(value: Any) -> Any:
    if isinstance(value, int | float):
        return value
    return keep(value if isinstance(value, str) else str(value))


def read(kept: Any) -> str:
    """Words that were kept, in the language spoken now."""
    if isinstance(kept, str):
        if kept.isdecimal():
            return kept
        return Words(kept.replace("{", "{{").replace("}", "}}"), {}) if "{" in kept else Words(kept, {})
    if "note" in kept:
        return NoteWords(kept["note"])
    values = {name: read(value) if isinstance(value, (str, dict)) else value for name, value in kept["with"].items()}
    return Words(kept["words"], values, kept.get("many"), just_made=True)
