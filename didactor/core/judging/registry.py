"""Findings and the registry of checks. A new kind of finding is one module in ``checks/`` that registers itself."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cache

from didactor.core.judging.categories import CATEGORIES
from didactor.core.judging.evidence import Evidence, NoteJudgement


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One thing to mend, with its place and size. ``start_s`` and ``end_s`` let it be heard; ``severity`` orders findings."""

    code: str
    category: str
    text: str
    confidence: float
    severity: float
    bar: str | None = None
    pass_: int | None = None
    beat: float | None = None
    note_ids: tuple[str, ...] = ()
    size: float | None = None
    unit: str | None = None
    start_s: float | None = None
    end_s: float | None = None

    @classmethod
    def at_note(cls, item: NoteJudgement, *, code: str, category: str, text: str, severity: float, size: float, unit: str) -> Finding:
        """A finding about one written note: placed, and heard, where that note is."""
        return cls(
            code=code,
            category=category,
            text=text,
            confidence=item.confidence,
            severity=severity,
            bar=item.note.bar,
            pass_=item.note.pass_,
            beat=item.note.beat,
            note_ids=(item.note.id,),
            size=size,
            unit=unit,
            start_s=item.onset_s,
            end_s=item.offset_s,
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """A registered check: its stable code, a title for people, the category, the unit of its size and a source."""

    code: str
    title: str
    category: str
    unit: str | None
    reference: str
    run: Callable[[Evidence], Iterable[Finding]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Pattern:
    """A registered pattern: as a check, but it looks at what the checks have found."""

    code: str
    title: str
    category: str
    unit: str | None
    reference: str
    run: Callable[[Evidence, Sequence[Finding]], Iterable[Finding]]


_CHECKS: dict[str, Check] = {}
_PATTERNS: dict[str, Pattern] = {}
CheckFunction = Callable[[Evidence], Iterable[Finding]]
PatternFunction = Callable[[Evidence, Sequence[Finding]], Iterable[Finding]]


def check(*, code: str, title: str, category: str, unit: str | None, reference: str) -> Callable[[CheckFunction], CheckFunction]:
    """Register a check. Raises ``ValueError`` for a code used twice or an unknown category."""

    def register(function: CheckFunction) -> CheckFunction:
        _refuse(code, category)
        _CHECKS[code] = Check(code=code, title=title, category=category, unit=unit, reference=reference, run=function)
        return function

    return register


def pattern(*, code: str, title: str, category: str, unit: str | None, reference: str) -> Callable[[PatternFunction], PatternFunction]:
    """Register a pattern; it stands in ``checks/`` like a check and is run after all of them."""

    def register(function: PatternFunction) -> PatternFunction:
        _refuse(code, category)
        _PATTERNS[code] = Pattern(code=code, title=title, category=category, unit=unit, reference=reference, run=function)
        return function

    return register


def _refuse(code: str, category: str) -> None:
    if code in _CHECKS or code in _PATTERNS:
        raise ValueError(f"two checks have the code {code}")
    if category not in CATEGORIES:
        raise ValueError(f"{category} is no category")


@cache
def all_checks() -> tuple[Check, ...]:
    """Every check of the ``checks`` package, ordered by code."""
    _load()
    return tuple(_CHECKS[code] for code in sorted(_CHECKS))


@cache
def all_patterns() -> tuple[Pattern, ...]:
    """Every pattern of the ``checks`` package, ordered by code."""
    _load()
    return tuple(_PATTERNS[code] for code in sorted(_PATTERNS))


@cache
def _load() -> None:
    from didactor.core.judging import checks

    for module in sorted(m.name for m in pkgutil.iter_modules(checks.__path__)):
        importlib.import_module(f"{checks.__name__}.{module}")


def run_checks(evidence: Evidence) -> list[Finding]:
    """All findings, what to mend first at the top, then in the order of the music; patterns stand before their instances."""
    findings = [finding for entry in all_checks() for finding in entry.run(evidence)]
    findings += [finding for entry in all_patterns() for finding in entry.run(evidence, tuple(findings))]
    return sorted(findings, key=lambda f: (-f.severity, f.start_s if f.start_s is not None else -1.0))
