from __future__ import annotations

from typing import Any

from django import forms


class Figure(forms.FloatField):
    """A number that stands in its field as a person writes it: 80, not 80.0; with point or comma."""

    def to_python(self, value: Any) -> Any:
        return super().to_python(value.replace(",", ".") if isinstance(value, str) else value)

    def prepare_value(self, value: Any) -> Any:
        return f"{value:g}" if isinstance(value, float) else value
