"""Why something went wrong in a take, as far as the score knows."""

from __future__ import annotations

from didactor.core.causes.registry import Cause, causes_of
from didactor.core.formats.result import Result
from didactor.library.notation import read_part
from didactor.takes.models import Take


def likely_causes(take: Take, result: Result | None) -> list[Cause]:
    """Nothing in doubt, and nothing where no notes were heard."""
    if result is None or not result.notes:
        return []
    return causes_of(result, read_part(take.basis["revision_id"], take.basis["part"]))
