"""Errors of the core.

    CoreError
    ├── ScoreError      the notation cannot be used
    ├── AudioError      the recording cannot be used
    ├── PassageError    the bars, order or targets do not fit the score
    ├── SandboxError    the isolated process was stopped by one of its limits
    └── BusyError       the machine had no time for it now: nothing is wrong with the file, and it is worth trying again

Each carries a ``code`` (stable, for programs and tests) apart from its words (for people: what happened, where, and
what to do next). Recoverable trouble is not an error: readers return a list of ``Problem`` beside their result.
"""

from __future__ import annotations

from dataclasses import dataclass


class CoreError(Exception):
    """Base of all errors of the core."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code
        self.message = message

    def __reduce__(self) -> tuple[type[CoreError], tuple[str, str]]:
        """They come back whole from a process apart."""
        return type(self), (self.code, self.message)


class ScoreError(CoreError):
    """The notation cannot be read."""


class AudioError(CoreError):
    """The recording cannot be read."""


class PassageError(CoreError):
    """Bars, order of playing or targets that do not fit the score."""


class SandboxError(CoreError):
    """The isolated process ran out of memory, time or room."""


class BusyError(CoreError):
    """The machine gave the work no time; the same again may go well."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Problem:
    """Recoverable trouble: what it is, where, in words that say what to do."""

    code: str
    text: str
    start_s: float | None = None
    end_s: float | None = None
