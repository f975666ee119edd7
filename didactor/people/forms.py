from __future__ import annotations

from typing import Any

from django import forms

from didactor.core.instruments import INSTRUMENTS
from didactor.people.models import Group, Level, Studio

INSTRUMENT_CHOICES = [("", "Choose an instrument"), *sorted(((i.slug, i.title) for i in INSTRUMENTS), key=lambda c: c[1])]


class StudentForm(forms.Form):
    name = forms.CharField(max_length=120)
    instrument = forms.ChoiceField(choices=INSTRUMENT_CHOICES)
    level = forms.ChoiceField(choices=Level.choices, initial=Level.ELEMENTARY)
    group = forms.CharField(max_length=80, required=False, help_text="Choose one or name a new one; may stay empty.")
    is_minor = forms.BooleanField(
        required=False, label="Under age", help_text="A guardian’s consent is asked for before the first recording."
    )
    guardian = forms.CharField(
        max_length=120, required=False, label="Guardian’s name", help_text="Gets a sign-in of their own and sees what the student sees."
    )

    def __init__(self, *args: Any, studio: Studio, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.group_names = [g.name for g in Group.objects.filter(studio=studio)]
        self.fields["group"].widget.attrs["list"] = "group-names"
        self.fields["group"].widget.attrs["autocomplete"] = "off"


class EnrolmentForm(forms.Form):
    """Another instrument, or a new level or group on one the student already has."""

    instrument = forms.ChoiceField(choices=INSTRUMENT_CHOICES)
    level = forms.ChoiceField(choices=Level.choices, initial=Level.ELEMENTARY)
    group = forms.CharField(max_length=80, required=False, widget=forms.TextInput(attrs={"list": "group-names", "autocomplete": "off"}))


class GuardianForm(forms.Form):
    name = forms.CharField(max_length=120, label="Guardian’s name")


class ConsentForm(forms.Form):
    given_by = forms.CharField(max_length=120, label="Guardian’s name")
    agreed = forms.BooleanField(label="The guardian has read the words above and agrees.")


class CardForm(forms.Form):
    code = forms.CharField(
        max_length=40,
        label="Code on your card",
        widget=forms.TextInput(attrs={"autocomplete": "one-time-code", "autocapitalize": "none", "spellcheck": "false"}),
    )


class PasswordForm(forms.Form):
    username = forms.CharField(
        max_length=150, label="Name", widget=forms.TextInput(attrs={"autocomplete": "username", "autocapitalize": "none"})
    )
    password = forms.CharField(widget=forms.PasswordInput(attrs={"autocomplete": "current-password"}))


class NoteNamesForm(forms.Form):
    """What beginners call the notes; empty: the letter."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for letter in "CDEFGAB":
            self.fields[letter] = forms.CharField(max_length=12, required=False, label=letter)

    @property
    def names(self) -> dict[str, str]:
        return {letter: word.strip() for letter, word in self.cleaned_data.items() if word.strip()}
