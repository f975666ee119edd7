"""Open a score from outside: read in the sandbox first, only its cleaned form is read here."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import IO, Any

from didactor.core.errors import SandboxError, ScoreError
from didactor.core.sandbox.confine import TOO_OPEN
from didactor.core.sandbox.run import Limits, run_isolated
from didactor.core.score.write.engraving import ACROSS, Engraving
from didactor.core.words import worded

SCORE_LIMITS = Limits(cpu_s=45, wall_s=120.0, output=200_000_000)


def read_isolated(source: IO[bytes]) -> list[tuple[dict[str, Any], bytes]]:
    """The pieces in an uploaded file, each with its summary (title, parts, bars, problems) and prepared XML.

    Raises:
        ScoreError: a plain sentence on what is wrong with the file.
    """
    try:
        answer = run_isolated("score", source, limits=SCORE_LIMITS)
    except SandboxError as error:
        damaged = worded("The score is too large or too damaged to be read safely. Export it again.")
        raise ScoreError("score.unreadable", error.message if error.code == TOO_OPEN else damaged) from error
    found, at = [], 0
    for head in answer.head["pieces"]:
        length = head.pop("bytes")
        found.append((head, answer.body[at : at + length]))
        at += length
    return found


def prepare_isolated(source: IO[bytes]) -> tuple[dict[str, Any], bytes]:
    """The first piece in a file. Raises ``ScoreError``."""
    return read_isolated(source)[0]


def engrave_isolated(prepared: bytes, part: int, bars: str | None, layouts: Iterable[str] = ACROSS) -> dict[str, Engraving]:
    """Engrave bars of a part (``part`` counts from 1) for some layouts, each in a sandbox of its own, side by side.

    Raises:
        ScoreError: these bars cannot be engraved.
    """

    def one(layout: str) -> Engraving:
        with tempfile.TemporaryFile() as source:
            source.write(prepared)
            source.flush()
            answer = run_isolated("engrave", source, {"part": part, "bars": bars, "layout": layout}, SCORE_LIMITS)
        return Engraving(svg=answer.head["svg"], geometry=answer.head["geometry"])

    wanted = list(layouts)
    try:
        with ThreadPoolExecutor(max_workers=len(wanted)) as threads:
            return dict(zip(wanted, threads.map(one, wanted), strict=True))
    except SandboxError as error:
        raise ScoreError(
            "score.not_engraved", worded("These bars could not be engraved. Choose fewer bars, or export the score again.")
        ) from error
