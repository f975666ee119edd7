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
    """``actor`` fills it in for ``person``: an address that is there already is its owner's to change, a teacher's with the password."""

    address = forms.EmailField(required=False, label=_("Address"), help_text=_("Without one no letters are sent."))
    password = forms.CharField(
        required=False,
        label=_("Your password"),
        help_text=_("For a new address: a forgotten password is mended by it."),
        widget=forms.PasswordInput(attrs={"autocomplete": "current-password"}),
    )
    wanted = forms.MultipleChoiceField(required=False, label=_("Letters about"), widget=forms.CheckboxSelectMultiple)

    def __init__(self, *args: Any, person: Person, actor: Person, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["wanted"].choices = kinds_for(person)  # type: ignore[attr-defined]
        own = actor.pk == person.pk
        if not (own and person.is_teacher):
            del self.fields["password"]
        if not own and person.email:
            del self.fields["address"]
