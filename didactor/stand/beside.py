"""Two takes of one passage side by side, and the same two without their names."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.core import signing
from django.db.models import QuerySet
from django.urls import reverse

from didactor.assignments.models import Task
from didactor.core.comparing.own_ear import bar_span
from didactor.core.comparing.pairs import Told, tell
from didactor.core.formats.result import Result
from didactor.core.words import worded
from didactor.people.models import Person
from didactor.takes.models import Take, TakeState
from didactor.takes.permissions import sight_of
from didactor.takes.strips import strip_of

#: Takes louder than the quieter one are turned down to it: nothing is turned up, so nothing is clipped.
QUIETEST_DB = -24.0
SALT = "blind pair"


def heard_takes(task: Task) -> QuerySet[Take]:
    """Takes of a task that can be compared: heard, and with a sound to play."""
    return task.takes.filter(state=TakeState.ANALYSED).exclude(playback="").prefetch_related("analyses").order_by("number")


@dataclass(frozen=True, kw_only=True)
class Bar:
    """A bar in both takes: from when to when it sounds in each, None where it does not; ``words`` what was heard in each."""

    number: str
    first: tuple[float, float] | None
    second: tuple[float, float] | None
    words: tuple[str, str]
    worst: tuple[str, str]


def bars_of(first: Take, second: Take, shown: Sequence[bool]) -> list[Bar]:
    """The passage's bars, each in both takes; ``shown``: whether what was heard in each is said."""
    results: tuple[Result | None, Result | None] = (first.heard, second.heard)
    strips = [
        {cell.number: cell for cell in strip_of(take.latest_analysis)} if seen else {}
        for take, seen in zip((first, second), shown, strict=True)
    ]
    numbers = list(dict.fromkeys(note.bar for result in results if result for note in result.notes or ()))
    spans = [[bar_span(result, number) if result else None for number in numbers] for result in results]
    return [
        Bar(
            number=number,
            first=spans[0][k],
            second=spans[1][k],
            words=tuple(strip[number].words if number in strip else "" for strip in strips),  # type: ignore[arg-type]
            worst=tuple(strip[number].worst if number in strip else "" for strip in strips),  # type: ignore[arg-type]
        )
        for k, number in enumerate(numbers)
    ]


def sounds_of(first: Take, second: Take) -> list[dict[str, Any]]:
    """What the browser needs to play both at equal loudness: their delays, and gains of at most 1."""
    levels = [take.loudness_lufs for take in (first, second)]
    known = [level for level in levels if level is not None]
    aim = min(known) if len(known) == 2 else None
    return [
        {
            "delay": take.playback_delay_s,
            "gain": 1.0 if aim is None or level is None else round(10 ** (max(QUIETEST_DB, aim - level) / 20), 4),
        }
        for take, level in zip((first, second), levels, strict=True)
    ]


def signed_pair(first: Take, second: Take) -> str:
    """Which take is behind which letter, signed: the page does not name them."""
    return signing.dumps([first.pk, second.pk], salt=SALT)


def opened_pair(task: Task, signed: str) -> tuple[Take, Take] | None:
    """The takes of a signed pair, in its order; None for anything that was not signed for this task."""
    try:
        pair = signing.loads(signed, salt=SALT, max_age=24 * 3600)
        found = {take.pk: take for take in heard_takes(task).filter(pk__in=pair)}
        return found[pair[0]], found[pair[1]]
    except (signing.BadSignature, KeyError, TypeError, ValueError, IndexError):
        return None


def shuffled(two: tuple[Take, Take] | None) -> tuple[Take, Take] | None:
    """The two in an order that nobody can guess."""
    return two if two is None or secrets.randbelow(2) else (two[1], two[0])


def beside_page(task: Task, two: tuple[Take, Take], person: Person) -> dict[str, Any]:
    """Both takes bar by bar. What was heard in one is shown only where the student may see it yet."""
    first, second = two
    return {
        "task": task,
        "assignment": task.assignment,
        "first": first,
        "second": second,
        "bars": bars_of(first, second, [sight_of(take, person).result is not None for take in two]),
        "sounds": [{**sound, "sound": reverse("takes:sound", args=[take.pk])} for take, sound in zip(two, sounds_of(*two), strict=True)],
        "takes": list(heard_takes(task)),
        "can_hand_in": task.enrolment.student_id == person.pk and not task.takes.filter(submission__isnull=False).exists(),
    }


@dataclass(frozen=True, kw_only=True)
class Answer:
    """A question of the pair, what was answered and what the figures say; ``right`` is None where they cannot tell."""

    asks: str
    said: str
    right: bool | None
    words: str


def pair_page(task: Task, two: tuple[Take, Take], answers: dict[str, str] | None, person: Person) -> dict[str, Any]:
    """Two sounds without names and the questions that both can answer; with ``answers``, which was which and what the figures say."""
    signed = signed_pair(*two)
    sights = [sight_of(take, person) for take in two]
    told = told_of(*two) if all(sight.result is not None for sight in sights) else ()
    figures = all(sight.figures for sight in sights)
    sounds = [
        {**sound, "sound": f"{reverse('stand:pair_sound', args=[task.pk, k])}?pair={signed}"} for k, sound in enumerate(sounds_of(*two))
    ]
    return {
        "task": task,
        "assignment": task.assignment,
        "pair": signed,
        "two": two,
        "sounds": sounds,
        "bars": bars_of(*two, [False, False]),
        "questions": [t.question for t in told],
        "answers": [_answered(t, answers.get(t.question.slug, ""), figures) for t in told] if answers is not None else None,
    }


def _answered(told: Told, said: str, figures: bool) -> Answer:
    letters = {"0": "A", "1": "B", "alike": worded("alike")}
    truth = "alike" if told.better is None else str(told.better)
    says = worded("They are alike.") if told.better is None else worded("{letter} was.", letter=letters[truth])
    if figures:
        first, second = told.values
        values = {"first": f"{first:.0f}", "second": f"{second:.0f}", "unit": told.question.unit}
        says = (
            worded("They are alike: {first} and {second} {unit} (A and B).", **values)
            if told.better is None
            else worded("{letter} was: {first} and {second} {unit} (A and B).", letter=letters[truth], **values)
        )
    return Answer(asks=told.question.asks, said=letters.get(said, ""), right=said == truth if said else None, words=says)


def told_of(first: Take, second: Take) -> tuple[Told, ...]:
    """What the figures of both say."""
    a, b = first.heard, second.heard
    return tell(a, b) if a is not None and b is not None else ()
