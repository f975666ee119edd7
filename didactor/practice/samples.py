"""The sound of an attempt while it is played and until it was heard: a file of the machine at which it comes in.

It is handed over to a store that several machines share where another machine is to hear it.
"""

from __future__ import annotations

from django.core.files.base import ContentFile
from django.core.files.storage import default_storage

from didactor.practice.models import Attempt
from didactor.web.store import SAMPLES, is_shared


def raw_samples(attempt: Attempt) -> bytes:
    """What has come of it so far; nothing where no machine has any."""
    path = attempt.samples_path
    if path.exists():
        return path.read_bytes()
    if is_shared() and default_storage.exists(_name(attempt)):
        with default_storage.open(_name(attempt)) as kept:
            found: bytes = kept.read()
            return found
    return b""


def hand_over(attempt: Attempt) -> None:
    """Before a worker is asked to hear it: any machine can, then."""
    if is_shared() and attempt.samples_path.exists():
        default_storage.save(_name(attempt), ContentFile(attempt.samples_path.read_bytes()))
        _forget_here(attempt)


def forget_samples(attempt: Attempt) -> None:
    _forget_here(attempt)
    if is_shared():
        default_storage.delete(_name(attempt))


def _forget_here(attempt: Attempt) -> None:
    attempt.samples_path.unlink(missing_ok=True)
    attempt.samples_path.with_suffix(".look").unlink(missing_ok=True)


def _name(attempt: Attempt) -> str:
    return f"{SAMPLES}{attempt.pk}.pcm"
