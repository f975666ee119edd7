"""Tables for other programs."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from django.http import HttpResponse
from django.utils.http import content_disposition_header
from django.utils.text import get_valid_filename

from didactor.core.words import english

#: What a table program would take for the beginning of a formula.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def as_csv(rows: Iterable[Sequence[object]]) -> str:
    """Commas between, quotes where needed; text that would be taken for a formula gets a quote in front. Our own words are in English,
    whoever asks: another program looks for them.
    """
    out = io.StringIO()
    writer = csv.writer(out)
    for row in rows:
        plain = [english(v) if isinstance(v, str) else v for v in row]
        writer.writerow([f"'{v}" if isinstance(v, str) and v.startswith(_FORMULA) else v for v in plain])
    return out.getvalue()


def csv_file(text: str, name: str) -> HttpResponse:
    """With a mark of its encoding, without which some programs read accents wrongly."""
    answer = HttpResponse("\ufeff" + text, content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = content_disposition_header(True, f"{get_valid_filename(name)}.csv")
    return answer
