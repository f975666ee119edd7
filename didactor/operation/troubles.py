"""What could not be done for a studio, why, and doing it once more."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from didactor.core.words import _, worded
from didactor.letters.models import Letter
from didactor.letters.querysets import MOST_TRIES
from didactor.library.jobs import SOMEBODY_WAITS, render_model, stretch_reference
from didactor.library.models import ModelSound, ReferenceSound
from didactor.people.models import Person, Studio
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take, TakeState

#: So many of each kind are shown; the others move up.
SHOWN = 50
NOT_MADE = _("It could not be made. If it fails again, look into the worker’s log.")


@dataclass(frozen=True, kw_only=True)
class Trouble:
    """``kind`` and ``number`` name the row; ``why`` in words; ``at`` when, where that is known."""

    kind: str
    number: int
    what: str
    why: str
    at: datetime | None = None


def troubles_of(studio: Studio) -> list[Trouble]:
    """All of a studio, recordings first."""
    return [trouble for kind in _KINDS.values() for trouble in kind.found(studio)]


def try_again(*, person: Person, kind: str, number: int) -> bool:
    """Queue it once more. False where it is not there (any more)."""
    assert person.studio is not None
    known = _KINDS.get(kind)
    return known is not None and known.again(person.studio, number)


def _takes(studio: Studio) -> Iterator[Trouble]:
    failed = Take.objects.filter(task__assignment__studio=studio, state=TakeState.FAILED).exclude(original="")
    for take in failed.select_related("task__assignment", "task__enrolment__student").defer("peaks").order_by("-created_at")[:SHOWN]:
        what = f"{take.task.enrolment.student}: {take.task.assignment}, {str(take).lower()}"
        yield Trouble(kind="take", number=take.pk, what=what, why=take.trouble, at=take.created_at)


def _take_again(studio: Studio, number: int) -> bool:
    failed = Take.objects.filter(task__assignment__studio=studio, state=TakeState.FAILED, pk=number).exclude(original="")
    with transaction.atomic():
        if not failed.update(state=TakeState.STORED, trouble=""):
            return False
        analyse_take.defer(take_id=number)
    return True


def _models(studio: Studio) -> Iterator[Trouble]:
    failed = ModelSound.objects.filter(passage__revision__piece__studio=studio, failed=True).select_related("passage__revision__piece")
    for sound in failed.defer("passage__revision__prepared", "passage__revision__reading")[:SHOWN]:
        what = (
            worded("{passage}, accompaniment at {tempo_qpm:g} quarters a minute", passage=sound.passage, tempo_qpm=sound.tempo_qpm)
            if sound.of_part
            else worded("{passage}, model at {tempo_qpm:g} quarters a minute", passage=sound.passage, tempo_qpm=sound.tempo_qpm)
        )
        yield Trouble(kind="model", number=sound.pk, what=what, why=NOT_MADE)


def _model_again(studio: Studio, number: int) -> bool:
    with transaction.atomic():
        if not ModelSound.objects.filter(passage__revision__piece__studio=studio, failed=True, pk=number).update(failed=False):
            return False
        render_model.configure(priority=SOMEBODY_WAITS).defer(model_sound_id=number)
    return True


def _stretched(studio: Studio) -> Iterator[Trouble]:
    failed = ReferenceSound.objects.filter(reference__passage__revision__piece__studio=studio, failed=True).select_related("reference")
    for sound in failed[:SHOWN]:
        what = worded("“{title}” at {tempo_qpm:g} quarters a minute", title=sound.reference.title, tempo_qpm=sound.tempo_qpm)
        yield Trouble(kind="stretched", number=sound.pk, what=what, why=NOT_MADE)


def _stretch_again(studio: Studio, number: int) -> bool:
    failed = ReferenceSound.objects.filter(reference__passage__revision__piece__studio=studio, failed=True, pk=number)
    with transaction.atomic():
        if not failed.update(failed=False):
            return False
        stretch_reference.defer(reference_sound_id=number)
    return True


def _letters(studio: Studio) -> Iterator[Trouble]:
    given_up = Letter.objects.filter(person__studio=studio, sent_at=None, tries__gte=MOST_TRIES).select_related("person")
    for letter in given_up[:SHOWN]:
        what = worded("Letter to {person}: {subject}", person=letter.person, subject=letter.subject)
        yield Trouble(kind="letter", number=letter.pk, what=what, why=letter.trouble, at=letter.tried_at)


def _letter_again(studio: Studio, number: int) -> bool:
    given_up = Letter.objects.filter(person__studio=studio, sent_at=None, tries__gte=MOST_TRIES, pk=number)
    return bool(given_up.update(tries=0, tried_at=None, trouble=""))


@dataclass(frozen=True, slots=True)
class _Kind:
    found: Callable[[Studio], Iterator[Trouble]]
    again: Callable[[Studio, int], bool]


_KINDS = {
    "take": _Kind(_takes, _take_again),
    "model": _Kind(_models, _model_again),
    "stretched": _Kind(_stretched, _stretch_again),
    "letter": _Kind(_letters, _letter_again),
}
