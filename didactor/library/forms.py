from __future__ import annotations

from django import forms


class PieceForm(forms.Form):
    score = forms.FileField(
        label="Score",
        help_text="MusicXML: .musicxml, .xml or .mxl, as your notation program exports it.",
        widget=forms.ClearableFileInput(attrs={"accept": ".musicxml,.xml,.mxl"}),
    )
    title = forms.CharField(max_length=200, required=False, help_text="Empty: as the file says.")


class PassageForm(forms.Form):
    part = forms.IntegerField(min_value=1, widget=forms.HiddenInput)
    bars = forms.CharField(
        max_length=40,
        label="Bars",
        help_text="Drag over the score, or type, like 5-12.",
        widget=forms.TextInput(attrs={"autocomplete": "off"}),
    )
    order = forms.CharField(
        max_length=200,
        required=False,
        label="Order of playing",
        help_text="Empty: the repeats as written. Or like 1-4 1-4 5-8.",
        widget=forms.TextInput(attrs={"autocomplete": "off"}),
    )
    title = forms.CharField(max_length=200, required=False, help_text="Empty: the piece and its bars.")
