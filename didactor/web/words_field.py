"""A column of words that were made here: kept as what they were made of, read in the language of whoever looks."""

from __future__ import annotations

import json
from typing import Any

from django.db import models

from didactor.core.words import Table, Words, keep, read

#: Begins what is no text as somebody typed it; nobody can type it.
MADE = "\x1f"


class WordsField(models.TextField):
    """``worded`` texts, and typed ones, which stay as they are."""

    def get_prep_value(self, value: Any) -> Any:
        if isinstance(value, (Words, Table)):
            return MADE + json.dumps(keep(value), ensure_ascii=False)
        return value.replace(MADE, "") if isinstance(value, str) else value

    def from_db_value(self, value: Any, expression: Any, connection: Any) -> Any:
        return _read(value)

    def to_python(self, value: Any) -> Any:
        return _read(value) if isinstance(value, str) else value

    def value_to_string(self, obj: models.Model) -> str:
        kept: str = self.get_prep_value(self.value_from_object(obj))
        return kept


def _read(value: Any) -> Any:
    return read(json.loads(value[1:])) if isinstance(value, str) and value.startswith(MADE) else value
