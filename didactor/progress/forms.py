from __future__ import annotations

from typing import Any

from django import forms


class TermForm(forms.Form):
    from_day = forms.DateField(label="From", widget=forms.DateInput(attrs={"type": "date"}))
    to_day = forms.DateField(label="to", widget=forms.DateInput(attrs={"type": "date"}))

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        first, last = data.get("from_day"), data.get("to_day")
        if first and last and first > last:
            raise forms.ValidationError("The first day comes after the last.")
        return data
