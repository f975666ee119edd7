from __future__ import annotations

from typing import Any

from django import forms

from didactor.core.words import _
from didactor.letters.models import Kind
from didactor.people.models import Person


def kinds_for(person: Person) -> list[tuple[str, str]]:
    """What somebody in this role can be told."""
    if person.is_teacher:
        return [(Kind.HANDED_IN.value, str(Kind.HANDED_IN.label))]
    return [(kind.value, str(kind.label)) for kind in (Kind.ANSWERED, Kind.DUE_SOON)]


class LettersForm(forms.Form):
    address = forms.EmailField(required=False, label=_("Address"), help_text=_("Without one no letters are sent."))
    wanted = forms.MultipleChoiceField(required=False, label=_("Letters about"), widget=forms.CheckboxSelectMultiple)

    def __init__(self, *args: Any, person: Person, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["wanted"].choices = kinds_for(person)  # type: ignore[attr-defined]
