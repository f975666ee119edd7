from __future__ import annotations

from typing import Any

from django import forms

from didactor.core.score.generate.exercise import METRES
from didactor.core.score.read.formats import suffixes
from didactor.core.score.study.difficulty import HARDEST
from didactor.core.words import _, worded
from didactor.library.imports import MOST_FILES
from didactor.library.models import Kind, Piece
from didactor.people.models import Level
from didactor.web.fields import Figure


class ManyFiles(forms.FileInput):
    allow_multiple_selected = True


class FilesField(forms.FileField):
    """One file or several; cleans to a list."""

    def clean(self, data: Any, initial: Any = None) -> list[Any]:
        files = list(data) if isinstance(data, list | tuple) and data else [data]
        if len(files) == 1:
            files = [super().clean(files[0], initial)]  # of many each has its own report: one bad file stops no other
        if len(files) > MOST_FILES:
            raise forms.ValidationError(
                worded("These are {files} files. Bring in at most {most_files} at once.", files=len(files), most_files=MOST_FILES)
            )
        return files


class PieceForm(forms.Form):
    score = FilesField(
        label=_("Scores"),
        help_text=_("MusicXML (.musicxml, .xml, .mxl), MIDI, ABC or ChordPro. Several files at once are fine."),
        widget=ManyFiles(attrs={"accept": ",".join(suffixes())}),
    )
    title = forms.CharField(
        label=_("Title"), max_length=200, required=False, help_text=_("Empty: as the file says. For a single file only.")
    )


class LineForm(forms.Form):
    """A line of a printed book."""

    book = forms.CharField(label=_("Book"), max_length=150, help_text=_("As your students call it."))
    page = forms.CharField(label=_("Page"), max_length=20, required=False)
    number = forms.CharField(max_length=20, required=False, label=_("Number"))
    bars = forms.IntegerField(
        label=_("Bars"), min_value=1, max_value=500, initial=8, help_text=_("Counted by you; remarks are pinned to them.")
    )
    metre = forms.ChoiceField(label=_("Metre"), choices=[(m, m) for m in METRES], initial="4/4")
    tempo = Figure(required=False, min_value=10, max_value=400, label=_("Tempo"), help_text=_("Quarters a minute, if the book says."))
    photo = forms.FileField(
        label=_("Photo"), required=False, help_text=_("JPEG, PNG or WebP."), widget=forms.FileInput(attrs={"accept": "image/*"})
    )


class SearchForm(forms.Form):
    words = forms.CharField(required=False, max_length=100, label=_("Find"), widget=forms.SearchInput(attrs={"autocomplete": "off"}))
    kind = forms.ChoiceField(label=_("Kind"), choices=[("", _("All kinds")), *Kind.choices], required=False)
    level = forms.ChoiceField(label=_("Level"), choices=[("", _("All levels")), *Level.choices], required=False)
    put_away = forms.BooleanField(required=False, widget=forms.HiddenInput)


class VersionForm(forms.Form):
    """A corrected file of a piece that is in the library."""

    score = forms.FileField(label=_("File"), widget=forms.FileInput(attrs={"accept": ",".join(suffixes())}))


class DetailsForm(forms.ModelForm):
    """What a teacher may say of a piece; its notation is not touched."""

    tags = forms.CharField(label=_("Tags"), required=False, max_length=300, help_text=_("Separated by commas."))

    class Meta:
        model = Piece
        fields = ("title", "composer", "kind", "level", "tags")
        labels = {"title": _("Title"), "composer": _("Composer"), "kind": _("Kind"), "level": _("Level")}

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.initial["tags"] = ", ".join(self.instance.tags)

    def clean_tags(self) -> list[str]:
        return list(dict.fromkeys(t.strip()[:40] for t in self.cleaned_data["tags"].split(",") if t.strip()))


class PassageForm(forms.Form):
    part = forms.IntegerField(min_value=1, widget=forms.HiddenInput)
    bars = forms.CharField(
        max_length=40,
        required=False,
        label=_("Bars"),
        help_text=_("Drag over the score, or type, like 5-12. Empty: the whole piece."),
        widget=forms.TextInput(attrs={"autocomplete": "off"}),
    )
    order = forms.CharField(
        max_length=200,
        required=False,
        label=_("Order of playing"),
        help_text=_("Empty: the repeats as written. Or like 1-4 1-4 5-8, or A: 1-4 B: 5-8, A B A A."),
        widget=forms.TextInput(attrs={"autocomplete": "off"}),
    )
    title = forms.CharField(label=_("Title"), max_length=200, required=False, help_text=_("Empty: the piece and its bars."))


class TempoForm(forms.Form):
    tempo = Figure(min_value=10, max_value=400, label=_("Quarters a minute"))


class ReferenceForm(forms.Form):
    file = forms.FileField(
        label=_("Recording"), help_text=_("Sound or video, up to 200 MB."), widget=forms.FileInput(attrs={"accept": "audio/*,video/*"})
    )
    title = forms.CharField(label=_("Title"), max_length=120, required=False, help_text=_("Empty: how it sounds, or how it looks."))


class RecordingForm(forms.Form):
    """Something to listen to."""

    title = forms.CharField(label=_("Title"), max_length=200)
    file = forms.FileField(
        label=_("Recording"), help_text=_("Sound or video, up to 200 MB."), widget=forms.FileInput(attrs={"accept": "audio/*,video/*"})
    )


class BarCorrectionForm(forms.Form):
    """How hard a bar is, by the teacher's own knowledge."""

    bar = forms.CharField(max_length=10, label=_("Bar"))
    steps = forms.TypedChoiceField(
        coerce=int,
        choices=[
            (HARDEST, _("the hardest")),
            (2, _("much harder")),
            (1, _("harder")),
            (-1, _("easier")),
            (-2, _("much easier")),
            (0, _("as reckoned")),
        ],
        initial=1,
        label=_("Is"),
    )
    why = forms.CharField(max_length=100, required=False, label=_("Because"), help_text=_("Students read it. Like: the left hand crosses."))
