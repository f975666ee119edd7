from __future__ import annotations

from typing import Any

from django import forms
from django.contrib.auth.forms import SetPasswordForm

from didactor.core.instruments import INSTRUMENTS
from didactor.core.words import _, worded
from didactor.people.accounts import change_password
from didactor.people.models import TONE_NAMES, ConsentKind, Group, Level, Person, Studio
from didactor.web.speaking import NAMINGS

INSTRUMENT_CHOICES = [("", _("Choose an instrument")), *sorted(((i.slug, i.title) for i in INSTRUMENTS), key=lambda c: c[1])]


#: A list of 300 students is a tenth of this.
MOST_ROLL_BYTES = 200_000


class StudentForm(forms.Form):
    name = forms.CharField(label=_("Name"), max_length=120)
    instrument = forms.ChoiceField(label=_("Instrument"), choices=INSTRUMENT_CHOICES)
    level = forms.ChoiceField(label=_("Level"), choices=Level.choices, initial=Level.ELEMENTARY)
    group = forms.CharField(label=_("Group"), max_length=80, required=False, help_text=_("Choose one or name a new one; may stay empty."))
    is_minor = forms.BooleanField(
        required=False, label=_("Under age"), help_text=_("A guardian’s consent is asked for before the first recording.")
    )
    guardian = forms.CharField(
        max_length=120,
        required=False,
        label=_("Guardian’s name"),
        help_text=_("Gets a sign-in of their own and sees what the student sees."),
    )

    def __init__(self, *args: Any, studio: Studio, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.group_names = [g.name for g in Group.objects.filter(studio=studio)]
        self.fields["group"].widget.attrs["list"] = "group-names"
        self.fields["group"].widget.attrs["autocomplete"] = "off"


#: A code is no word: nothing is proposed for it, and nothing put right.
_AS_TYPED = {"autocomplete": "off", "autocapitalize": "none", "spellcheck": "false"}


class StudioCodeForm(forms.Form):
    code = forms.CharField(
        max_length=20,
        label=_("The studio’s code"),
        widget=forms.TextInput(attrs=_AS_TYPED),
    )


class RollForm(forms.Form):
    """A class list: pasted, or a CSV file; the file's text goes where the pasted one is, to be looked at and mended."""

    text = forms.CharField(
        required=False,
        label=_("One student a line"),
        strip=False,
        max_length=60_000,
        widget=forms.Textarea(attrs={"rows": 12, "spellcheck": "false", "placeholder": _("Ida Berg, Flute, beginner, Band, Nora Berg")}),
        help_text=_(
            "Name, instrument, level, group, guardian, under age (yes or no), with commas, semicolons or tabs "
            "between. Only the first two are needed."
        ),
    )
    file = forms.FileField(required=False, label=_("Or a CSV file"), widget=forms.FileInput(attrs={"accept": ".csv,.tsv,.txt,text/csv"}))
    group = forms.CharField(
        max_length=80,
        required=False,
        label=_("Group of all who have none"),
        widget=forms.TextInput(attrs={"list": "group-names", "autocomplete": "off"}),
    )

    def clean_file(self) -> Any:
        file = self.cleaned_data.get("file")
        if file is not None and file.size > MOST_ROLL_BYTES:
            raise forms.ValidationError(worded("That is too large for a class list. Save it as CSV from your spreadsheet."))
        return file

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        if data.get("file") is not None:
            data["text"] = _as_text(data["file"].read())
        if not (data.get("text") or "").strip() and not self.errors:
            raise forms.ValidationError(worded("The list is empty: paste one, or choose a file."))
        return data


def _as_text(raw: bytes) -> str:
    """A CSV file's text: UTF-8 or UTF-16 as spreadsheets write them, else the old Western encoding."""
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return raw.decode("utf-16", errors="replace").replace("\0", "")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = raw.decode("cp1252", errors="replace")
    if "\0" in text:
        raise forms.ValidationError(worded("That file is no text. Save the list as CSV from your spreadsheet."))
    return text


class GroupCardsForm(forms.Form):
    group = forms.ModelChoiceField(queryset=Group.objects.none(), empty_label=None)
    whose = forms.ChoiceField(
        label=_("Whose"), choices=[("without", _("those without one")), ("all", _("all of them: the old ones stop working"))]
    )
    kind = forms.ChoiceField(
        required=False,
        label=_("With"),
        choices=[("code", _("a code and a link")), ("pictures", _("four pictures, for who does not read yet"))],
    )

    def __init__(self, *args: Any, studio: Studio, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["group"].queryset = Group.objects.filter(studio=studio)  # type: ignore[attr-defined]


class PerformanceForm(forms.Form):
    """The day on which a group performs; empty: none is fixed."""

    group = forms.ModelChoiceField(queryset=Group.objects.none(), empty_label=None)
    on = forms.DateField(label=_("On"), required=False, widget=forms.DateInput(attrs={"type": "date"}))

    def __init__(self, *args: Any, studio: Studio, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["group"].queryset = Group.objects.filter(studio=studio)  # type: ignore[attr-defined]


class NameForm(forms.Form):
    """A student's name and age, changed later."""

    called = forms.CharField(max_length=120, label=_("Name"))
    is_minor = forms.BooleanField(required=False, label=_("Under age"), help_text=_("Nothing is recorded before a guardian has agreed."))
    no_notes_yet = forms.BooleanField(
        required=False,
        label=_("Does not read notes yet"),
        help_text=_("The stand shows fingers and colours, says what to do, and asks nothing."),
    )


class EnrolmentForm(forms.Form):
    """Another instrument, or a new level or group on one the student already has."""

    instrument = forms.ChoiceField(label=_("Instrument"), choices=INSTRUMENT_CHOICES)
    level = forms.ChoiceField(label=_("Level"), choices=Level.choices, initial=Level.ELEMENTARY)
    group = forms.CharField(
        label=_("Group"), max_length=80, required=False, widget=forms.TextInput(attrs={"list": "group-names", "autocomplete": "off"})
    )


class GuardianForm(forms.Form):
    name = forms.CharField(max_length=120, label=_("Guardian’s name"))


class ConsentForm(forms.Form):
    kind = forms.ChoiceField(choices=ConsentKind.choices, initial=ConsentKind.SOUND, required=False, widget=forms.HiddenInput)
    given_by = forms.CharField(max_length=120, label=_("Guardian’s name"))
    agreed = forms.BooleanField(label=_("The guardian has read the words above and agrees."))


class CardForm(forms.Form):
    code = forms.CharField(
        max_length=40,
        label=_("Code on your card"),
        widget=forms.TextInput(attrs={"autocomplete": "one-time-code", "autocapitalize": "none", "spellcheck": "false"}),
    )


def _new_password(label: str = _("Password")) -> forms.CharField:
    widget = forms.PasswordInput(attrs={"autocomplete": "new-password"})
    return forms.CharField(label=label, min_length=10, max_length=200, strip=False, widget=widget, help_text=_("Ten characters or more."))


class TeacherForm(forms.Form):
    """Who signs in as a teacher from now on."""

    name = forms.CharField(max_length=120, label=_("Your name"), help_text=_("As students see it."))
    email = forms.EmailField(required=False, label="E-mail", help_text=_("For a forgotten password and letters; may stay empty."))
    username = forms.RegexField(
        r"^[\w.@+-]+$",
        max_length=60,
        label=_("Name to sign in with"),
        widget=forms.TextInput(attrs={"autocomplete": "username", "autocapitalize": "none"}),
        error_messages={"invalid": _("Letters, digits and . @ + - _ only.")},
    )
    password = _new_password(
        label=_("Password"),
    )


class StudioForm(TeacherForm):
    """A new studio and its owner."""

    studio = forms.CharField(max_length=120, label=_("Name of the studio"), help_text=_("Yours, or your school’s."))
    field_order = ("studio", "name", "email", "username", "password")


class InvitationForm(forms.Form):
    invited = forms.CharField(max_length=120, label=_("Colleague’s name"))


class KeepForm(forms.Form):
    """How long recordings are kept."""

    keep = forms.TypedChoiceField(
        label=_("Recordings are kept"),
        coerce=int,
        empty_value=None,
        required=False,
        choices=[
            ("", _("until somebody erases them")),
            (6, _("half a year")),
            (12, _("a year")),
            (24, _("two years")),
            (60, _("five years")),
        ],
        help_text=_("Older ones go every night, sound and picture, once they are answered. What was heard and answered stays."),
    )


class AddressForm(forms.Form):
    email = forms.EmailField(label=_("Your e-mail"))


class CodeForm(forms.Form):
    code = forms.CharField(
        max_length=20,
        label=_("Code"),
        widget=forms.TextInput(attrs={"autocomplete": "one-time-code", "inputmode": "text", "autocapitalize": "none"}),
    )


class ChangePasswordForm(forms.Form):
    old = forms.CharField(
        label=_("Password until now"), strip=False, widget=forms.PasswordInput(attrs={"autocomplete": "current-password"})
    )
    new = _new_password(_("New password"))


class ChoosePasswordForm(SetPasswordForm):
    """By the link of a letter."""

    def save(self, commit: bool = True) -> Person:
        change_password(person=self.user, new=self.cleaned_data["new_password1"])
        found: Person = self.user
        return found


class PasswordForm(forms.Form):
    username = forms.CharField(
        max_length=150, label=_("Name"), widget=forms.TextInput(attrs={"autocomplete": "username", "autocapitalize": "none"})
    )
    password = forms.CharField(label=_("Password"), widget=forms.PasswordInput(attrs={"autocomplete": "current-password"}))


#: What is said between the beats, and when.
COUNTING = {
    "and": _("Half a beat"),
    "e": _("The second of four"),
    "a": _("The last of four"),
    "trip": _("The second of three"),
    "let": _("The last of three"),
}


class NoteNamesForm(forms.Form):
    """How notes and values are called, what beginners call the notes, and what is said between the beats; empty: as usual."""

    naming = forms.ChoiceField(choices=[("", _("as the language has it")), *NAMINGS.items()], required=False, label=_("Notes are called"))
    values = forms.ChoiceField(
        choices=[("quarters", _("whole, half, quarter, eighth")), ("crotchets", _("semibreve, minim, crotchet, quaver"))],
        required=False,
        label=_("Values are called, in English"),
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for letter in "CDEFGAB":
            self.fields[letter] = forms.CharField(max_length=12, required=False, label=letter)
            tones = [("", "—"), *TONE_NAMES.items()]
            self.fields[f"tone_{letter}"] = forms.ChoiceField(choices=tones, required=False, label=letter)
        for word, when in COUNTING.items():
            self.fields[f"count_{word}"] = forms.CharField(
                max_length=8, required=False, label=when, widget=forms.TextInput(attrs={"placeholder": word})
            )

    @property
    def letters(self) -> list[forms.BoundField]:
        return [self[letter] for letter in "CDEFGAB"]

    @property
    def tones(self) -> list[forms.BoundField]:
        return [self[f"tone_{letter}"] for letter in "CDEFGAB"]

    @property
    def colours(self) -> dict[str, str]:
        return {letter: tone for letter in "CDEFGAB" if (tone := self.cleaned_data[f"tone_{letter}"])}

    @property
    def counts(self) -> list[forms.BoundField]:
        return [self[f"count_{word}"] for word in COUNTING]

    @property
    def counting_words(self) -> dict[str, str]:
        return {word: said for word in COUNTING if (said := self.cleaned_data[f"count_{word}"].strip())}

    @property
    def names(self) -> dict[str, str]:
        return {letter: word for letter in "CDEFGAB" if (word := self.cleaned_data[letter].strip())}
