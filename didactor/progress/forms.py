from __future__ import annotations

from typing import Any

from django import forms

from didactor.core.words import _, worded


class TermForm(forms.Form):
    from_day = forms.DateField(label=_("From"), widget=forms.DateInput(attrs={"type": "date"}))
    to_day = forms.DateField(label=_("To"), widget=forms.DateInput(attrs={"type": "date"}))

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        first, last = data.get("from_day"), data.get("to_day")
        if first and last and first > last:
            raise forms.ValidationError(worded("The first day comes after the last."))
        return data
