"""One line of ABC music to tokens. What is not understood becomes a token of its own kind, to be reported, never dropped."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction

#: Everything has an end within reach: a bracket that is never closed is not looked for through a whole book, once for each of thousands.
_LENGTH = r"(?P<length>\d{0,4}/{0,6}\d{0,4})"
_NOTE = r"(?P<accidental>\^{1,2}|_{1,2}|=)?(?P<letter>[A-Ga-g])(?P<octave>[,']{0,6})" + _LENGTH
_PATTERNS = [
    ("field", re.compile(r"\[(?P<name>[A-Za-z]):(?P<value>[^\]]{0,120})\]")),
    ("ending", re.compile(r"\[(?=\d)(?P<numbers>\d{1,3}(?:[,-]\d{1,3}){0,20})")),
    ("bar", re.compile(r"(?P<sign>\[\||:*\|+[\]:]*|::+|\.\|)(?:\s{0,20}\[?(?P<numbers>\d{1,3}(?:[,-]\d{1,3}){0,20}))?")),
    ("chord", re.compile(r"\[(?P<inside>[^\]|]{1,120})\]" + _LENGTH)),
    ("grace", re.compile(r"\{/?(?P<inside>[^}]{0,120})\}")),
    ("text", re.compile(r'"(?P<text>[^"]{0,120})"')),
    ("decoration", re.compile(r"!(?P<name>[A-Za-z0-9<>().^+]{1,40})!|\+(?P<old>[A-Za-z0-9<>().^]{1,40})\+")),
    ("tuplet", re.compile(r"\((?P<p>[2-9])(?::(?P<q>\d{0,2})(?::(?P<r>\d{0,2}))?)?")),
    ("note", re.compile(_NOTE)),
    ("rest", re.compile(r"(?P<kind>[zxZX])" + _LENGTH)),
    ("broken", re.compile(r"(?P<sign>>{1,3}|<{1,3})")),
    ("slur", re.compile(r"(?P<sign>[()])")),
    ("tie", re.compile(r"-")),
    ("mark", re.compile(r"(?P<sign>[.~HLMOPSTuv])(?=[\[\"^_=A-Ga-g.~HLMOPSTuv!(])")),
    ("overlay", re.compile(r"&")),
    ("space", re.compile(r"[\s`\\*y]+\d*")),
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Token:
    kind: str
    values: dict[str, str]
    text: str


def tokens(line: str) -> Iterator[Token]:
    """Tokens of a line; ``kind`` is one of the patterns' names, or ``unknown`` for a character that means nothing here."""
    at = 0
    while at < len(line):
        for kind, pattern in _PATTERNS:
            match = pattern.match(line, at)
            if match and match.end() > at:
                values = {name: value or "" for name, value in match.groupdict().items()}
                yield Token(kind=kind, values=values, text=match[0])
                at = match.end()
                break
        else:
            yield Token(kind="unknown", values={}, text=line[at])
            at += 1


def notes_inside(text: str) -> list[Token]:
    """The notes of a chord or a grace group."""
    return [t for t in tokens(text) if t.kind in ("note", "tie", "rest")]


def length_of(text: str) -> Fraction:
    """A length such as ``3``, ``/``, ``3/2`` or ``//`` as a multiple of the unit. Raises ``ValueError`` for zero."""
    match = re.fullmatch(r"(\d*)(/*)(\d*)", text)
    if match is None:
        raise ValueError(text)
    value = Fraction(int(match[1] or 1))
    if match[2]:
        value /= int(match[3]) if match[3] else 2 ** len(match[2])
    if value <= 0:
        raise ValueError(text)
    return value
