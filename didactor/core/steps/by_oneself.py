"""Steps that nobody hears but the student: done and ticked, or recorded for one's own ear."""

from __future__ import annotations

from didactor.core.steps.registry import Step, register
from didactor.core.words import _

register(
    Step(slug="count", ear=None, place=10, before=_("Write the counting under the notes"), listen_for=("rhythm", "other")),
    Step(slug="silent", ear=None, place=40, before=_("Finger it silently"), listen_for=("hands", "other")),
    Step(slug="listen", ear=None, place=120, title=_("Listen and answer")),
)
