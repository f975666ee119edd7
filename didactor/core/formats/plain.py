"""Frozen values to plain JSON and back, by their annotated types, so that what is written and what is read have one definition.

A field may tell another name in JSON and how many digits are kept. Words are kept in English, with what they were made of beside
them, and are read in the language spoken then. What JSON lacks becomes the field's default, or None: results of
older engines know less. Understood are plain values, tuples, ``X | None``, nested values of the same sort, string enums, and classes
with ``from_json`` and ``to_json`` of their own.
"""

from __future__ import annotations

import types
from collections.abc import Callable, Mapping
from dataclasses import MISSING, Field, field, fields, is_dataclass
from enum import StrEnum
from functools import cache
from typing import Any, TypeVar, Union, get_args, get_origin, get_type_hints

from didactor.core.words import english, is_made, keep, read

T = TypeVar("T")
#: Beside words with values in them stands what they were made of.
MADE_OF = "_made_of"


def stored(name: str | None = None, *, digits: int | None = None, words: bool = False, default: Any = MISSING) -> Any:
    """A dataclass field with its name in JSON and the digits that are kept there, or with words that are read in another language."""
    metadata = {"name": name, "digits": digits, "words": words}
    return field(metadata=metadata) if default is MISSING else field(metadata=metadata, default=default)


def to_plain(value: Any, digits: int | None = None) -> Any:
    """A value as JSON takes it."""
    if isinstance(value, float):
        return value if digits is None else round(value, digits)
    if hasattr(value, "to_json"):
        return value.to_json()
    if is_dataclass(value):
        plain = {_key(f): to_plain(getattr(value, f.name), f.metadata.get("digits")) for f in fields(value)}
        return plain | {f"{_key(f)}{MADE_OF}": keep(words) for f in fields(value) if is_made(words := getattr(value, f.name))}
    if isinstance(value, StrEnum):
        return str(value)
    if isinstance(value, str):
        return english(value)
    if isinstance(value, list | tuple):
        return [to_plain(item, digits) for item in value]
    return value


def from_plain(kind: type[T], data: Mapping[str, Any]) -> T:
    """A value of a dataclass from JSON.

    Raises:
        TypeError: something without a default is not there.
    """
    readers = _readers(kind)  # type: ignore[arg-type]
    return kind(**{name: reader(data.get(key + MADE_OF, data[key])) for name, key, reader in readers if key in data})


def _key(entry: Field[Any]) -> str:
    return entry.metadata.get("name") or entry.name


@cache
def _readers(kind: Any) -> tuple[tuple[str, str, Callable[[Any], Any]], ...]:
    hints = get_type_hints(kind)
    return tuple((f.name, _key(f), _words if f.metadata.get("words") else _reader(hints[f.name])) for f in fields(kind))


def _words(value: Any) -> str | None:
    return None if value is None else read(value)


def _reader(hint: Any) -> Callable[[Any], Any]:
    origin = get_origin(hint)
    if origin in (Union, types.UnionType):
        inner = _reader(next(a for a in get_args(hint) if a is not type(None)))
        return lambda value: None if value is None else inner(value)
    if origin is tuple:
        item = _reader(get_args(hint)[0])
        return lambda value: tuple(map(item, value))
    if isinstance(hint, type) and hasattr(hint, "from_json"):
        return hint.from_json  # type: ignore[no-any-return]
    if isinstance(hint, type) and is_dataclass(hint):
        return lambda value: from_plain(hint, value)
    if isinstance(hint, type) and issubclass(hint, StrEnum):
        return hint
    return lambda value: value
