"""The registry of ears and steps."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.words import _

if TYPE_CHECKING:
    from didactor.core.hearing.hearing import Hearing

#: Sound, what is expected, seconds a quarter (a first guess) and the instrument in; what was heard out, None for nothing of the kind.
Hear = Callable[[npt.NDArray[np.float32], Expectation, float, Instrument], "Hearing | None"]
LANES = ("placement", "pitch", "tempo", "loudness")


@dataclass(frozen=True, slots=True, kw_only=True)
class Ear:
    """How takes of a step are heard, and what is judged in them.

    Args:
        slug: the targets' ``step``; once released never used for something else.
        title: what is done, for the command line and for pages.
        listen: the method for a passage and an instrument. It imports what it needs when called: a program starts quicker without it.
        refuses: why a passage cannot have this step, in words that say what to do instead; an empty string where it can.
        proposed_for: how well the step fits a passage; that with the largest number is proposed, 0 for never.
        sounds: what is listened for: ``notes``, right or wrong by their pitch, ``strokes`` or ``names``.
        note_by_note: whether each note has a judgement of its own to be shown.
        lanes: which lanes can be drawn under the score.
        nothing_heard: code and words for a take in which nothing of the kind is heard.
        explains: what stands in the place of the legend where the usual signs do not apply.
    """

    slug: str
    title: str
    listen: Callable[[Expectation, Instrument], Hear]
    refuses: Callable[[Expectation], str]
    proposed_for: Callable[[Expectation], int]
    sounds: str = "strokes"
    note_by_note: bool = True
    lanes: tuple[str, ...] = LANES
    nothing_heard: tuple[str, str] = (
        "no_music",
        _("No notes can be heard in this take. Check that the right microphone is chosen, and record again."),
    )
    explains: str = ""

    @property
    def by_pitch(self) -> bool:
        return self.sounds == "notes"


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """What a teacher asks for. ``ear`` is the slug of the ear that hears its takes; None: done and ticked, or recorded for one's own ear.

    Args:
        title: as what is asked for in the end; empty: never that.
        before: as something that comes first on the same bars; empty: never that.
        place: where it stands among the others.
        staff: one hand alone.
        listen_for: categories that a student listens for in a take of it on the way; empty: all that the assignment's checklist names.
    """

    slug: str
    ear: str | None
    place: int
    title: str = ""
    before: str = ""
    staff: int | None = None
    listen_for: tuple[str, ...] = ()


_EARS: dict[str, Ear] = {}
_STEPS: dict[str, Step] = {}


def register(*entries: Ear | Step) -> None:
    """Make ears and steps known. Raises ``ValueError`` for a slug used twice."""
    for entry in entries:
        known: dict[str, Ear] | dict[str, Step] = _EARS if isinstance(entry, Ear) else _STEPS
        if entry.slug in known:
            raise ValueError(f"two of a kind have the slug {entry.slug}")
        known[entry.slug] = entry  # type: ignore[assignment]


@cache
def _load() -> None:
    package = __name__.rpartition(".")[0]
    path = importlib.import_module(package).__path__
    for module in sorted(m.name for m in pkgutil.iter_modules(path)):
        importlib.import_module(f"{package}.{module}")


@cache
def all_ears() -> tuple[Ear, ...]:
    """Every ear, by its slug."""
    _load()
    return tuple(_EARS[slug] for slug in sorted(_EARS))


def ear_of(slug: str) -> Ear:
    """Raises ``KeyError`` for a step that is not known."""
    _load()
    return _EARS[slug]


def proposed_ear(expectation: Expectation) -> Ear:
    """The ear that fits a passage best: chart: strum; line of rhythm: clap; a printed line: pulse; else play."""
    return max(all_ears(), key=lambda ear: 0 if ear.refuses(expectation) else ear.proposed_for(expectation))


@cache
def all_steps() -> tuple[Step, ...]:
    """Every step, in order."""
    _load()
    return tuple(sorted(_STEPS.values(), key=lambda s: s.place))


def goals() -> tuple[Step, ...]:
    """What can be asked for in the end."""
    return tuple(step for step in all_steps() if step.title)


def steps_before() -> tuple[Step, ...]:
    """What can come before, in order, under the titles it has there."""
    return tuple(replace(step, title=step.before) for step in all_steps() if step.before)


def goal(slug: str) -> Step:
    """A step as what is asked for in the end. Raises ``KeyError`` for one that is not known."""
    _load()
    return _STEPS[slug]


def on_the_way(slug: str) -> Step | None:
    """A step as one that comes before; None for one that does not."""
    return next((step for step in steps_before() if step.slug == slug), None)


def steps_to(before: Sequence[str], last: str) -> list[Step]:
    """The steps of a task in order, the goal at the end."""
    return [step for step in steps_before() if step.slug in before and step.slug != last] + [goal(last)]
