"""Which kinds of drill there are."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

from didactor.core.analyse import Analysis
from didactor.core.practising.drills.drill import Drill, Material
from didactor.core.practising.verdict import Verdict

Offers = Callable[[Material], list[Drill]]
#: The drill, what was heard and seconds a quarter in; what is told of it out.
Reads = Callable[[Drill, Analysis, float], Verdict]


@dataclass(frozen=True, slots=True, kw_only=True)
class Kind:
    """One kind of drill: what it offers for a passage (nothing where it has no place there), and how a go at it is read.

    ``says``: what is done, in a line. ``place``: where it stands among the others. ``most``: how many of them are shown: ``offers`` has
    them all, the most useful first, so that one that was begun is found again. ``changes``: its goes make a table of from and to; ``held``:
    it is of chords (``of`` names them), which are held in one way or another; ``two``: it is of two notes, which are shown in the score.
    """

    slug: str
    title: str
    says: str
    place: int
    offers: Offers
    most: int = 6
    changes: bool = False
    held: bool = False
    two: bool = False
    reads: Reads | None = None


_KINDS: dict[str, Kind] = {}


def register(kind: Kind) -> None:
    """Make a kind known. Raises ``ValueError`` for a slug used twice."""
    if kind.slug in _KINDS:
        raise ValueError(f"two kinds of drill have the slug {kind.slug}")
    _KINDS[kind.slug] = kind


@cache
def all_kinds() -> tuple[Kind, ...]:
    """Every kind, in order."""
    package = __name__.rpartition(".")[0]
    for module in sorted(m.name for m in pkgutil.iter_modules(importlib.import_module(package).__path__)):
        importlib.import_module(f"{package}.{module}")
    return tuple(sorted(_KINDS.values(), key=lambda kind: kind.place))


def kind_of(slug: str) -> Kind | None:
    """None for one that is not known."""
    all_kinds()
    return _KINDS.get(slug)


def drill_of(material: Material, slug: str, of: str) -> Drill | None:
    """One drill again, from its kind and what it is of; None where the passage does not offer it (any more)."""
    kind = kind_of(slug)
    return next((drill for drill in kind.offers(material) if drill.of == of), None) if kind else None
