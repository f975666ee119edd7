"""The registry of causes. A new one is one module beside this that registers a function from a case to causes; nothing else knows of it."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

from didactor.core.causes.case import Case, Fault
from didactor.core.formats.result import Result
from didactor.core.score.model import Part
from didactor.core.words import counted, worded


@dataclass(frozen=True, slots=True, kw_only=True)
class Cause:
    """``category``: what a remark about it belongs to. ``note_ids``: where it went wrong; ``points_to``: what to look at beside it (the
    like bar's note). ``start_s`` and ``end_s`` let the first place be heard.
    """

    code: str
    title: str
    category: str
    says: str
    confidence: float
    note_ids: tuple[str, ...]
    bar: str
    points_to: tuple[str, ...] = ()
    start_s: float | None = None
    end_s: float | None = None

    @classmethod
    def of(
        cls,
        faults: Sequence[Fault],
        *,
        code: str,
        title: str,
        category: str,
        says: str,
        confidence: float,
        points_to: Sequence[str] = (),
        **values: Any,
    ) -> Cause:
        """A cause of some faults, heard at the first; ``says`` is a pattern with ``{bars}`` and its other ``values``."""
        bars = list(dict.fromkeys(fault.note.bar for fault in faults))
        first = faults[0].note
        return cls(
            code=code,
            title=title,
            category=category,
            says=worded(says, bars=counted("bar {bars}", "bars {bars}", len(bars), bars=", ".join(bars)), **values),
            confidence=confidence,
            note_ids=tuple(fault.note.id for fault in faults),
            bar=first.bar,
            points_to=tuple(points_to),
            start_s=first.onset_s,
            end_s=first.offset_s,
        )


Function = Callable[[Case], Iterable[Cause]]
_CAUSES: dict[str, Function] = {}
#: Modules here that are no causes.
_NOT_CAUSES = {"case", "registry"}


def cause(code: str) -> Callable[[Function], Function]:
    """Register a cause. Raises ``ValueError`` for a code used twice."""

    def register(function: Function) -> Function:
        if code in _CAUSES:
            raise ValueError(f"two causes have the code {code}")
        _CAUSES[code] = function
        return function

    return register


@cache
def all_causes() -> tuple[str, ...]:
    """The codes of every cause."""
    from didactor.core import causes

    for module in sorted(m.name for m in pkgutil.iter_modules(causes.__path__)):
        if module not in _NOT_CAUSES:
            importlib.import_module(f"{causes.__name__}.{module}")
    return tuple(sorted(_CAUSES))


def causes_of(result: Result, part: Part) -> list[Cause]:
    """What may have been the cause of what went wrong in a take, the surest first. Of one place only the surest is told."""
    if not result.notes:
        return []
    case = Case(result=result, part=part)
    found = sorted((c for code in all_causes() for c in _CAUSES[code](case)), key=lambda c: -c.confidence)
    told: list[Cause] = []
    taken: set[str] = set()
    for one in found:
        if not set(one.note_ids) <= taken:
            told.append(one)
            taken |= set(one.note_ids)
    return told
