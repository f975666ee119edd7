"""Numbers as they come from outside. What Python takes for a number need not be one here: “²” is a digit to it, “nan” and “inf” are
floats, and five thousand digits take their time.
"""

from __future__ import annotations

import math
import re

#: The largest id a database row can have, and the most characters looked at.
LARGEST_ID, MOST_CHARACTERS = 2**63 - 1, 19


def read_id(text: str | None) -> int | None:
    """A whole number from 0 on, in ASCII digits; None for anything else."""
    if text is None or not re.fullmatch(r"[0-9]{1,19}", text) or len(text) > MOST_CHARACTERS:
        return None
    value = int(text)
    return value if value <= LARGEST_ID else None


def read_number(text: str | None, low: float, high: float) -> float | None:
    """A number between two limits, with point or comma; None for anything else."""
    plain = (text or "").strip().replace(",", ".")
    if not re.fullmatch(r"[0-9]{1,9}(\.[0-9]{0,9})?", plain):
        return None
    value = float(plain)
    return value if math.isfinite(value) and low <= value <= high else None
