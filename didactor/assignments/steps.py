"""Steps on the way to playing a passage: what is done first on the same bars. Each that can be recorded is heard by a method of its own."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """``method`` is the core's step it is heard by; None: done and ticked, or recorded for one's own ear. ``staff``: one hand alone.
    ``listen_for``: what the student listens for in a take of it; empty: all that the assignment's checklist names.
    """

    slug: str
    title: str
    method: str | None
    staff: int | None = None
    listen_for: tuple[str, ...] = ()


#: What the assignment asks for in the end.
GOALS = (
    Step(slug="play", title="Play it", method="play"),
    Step(slug="right", title="Play the right hand alone", method="play", staff=1),
    Step(slug="left", title="Play the left hand alone", method="play", staff=2),
    Step(slug="clap", title="Clap or tap the rhythm", method="clap"),
    Step(slug="chords", title="Strum the chords", method="chords"),
    Step(slug="pulse", title="Keep the pulse; notes are not judged", method="pulse"),
    Step(slug="listen", title="Listen and answer", method=None),
)
#: What may come before, in this order.
BEFORE = (
    Step(slug="count", title="Write the counting under the notes", method=None, listen_for=("rhythm", "other")),
    Step(slug="clap", title="Count and clap", method="clap", listen_for=("rhythm", "tempo", "flow", "other")),
    Step(slug="name", title="Say the names in time", method="say", listen_for=("notes", "tempo", "flow", "other")),
    Step(slug="silent", title="Finger it silently", method=None, listen_for=("hands", "other")),
    Step(slug="easy", title="An easier way of sounding, as plucked before bowed", method="play"),
    Step(slug="right", title="Right hand alone", method="play", staff=1),
    Step(slug="left", title="Left hand alone", method="play", staff=2),
    Step(slug="chords", title="The chord changes alone", method="chords", listen_for=("notes", "rhythm", "flow", "other")),
)
_BEFORE = {step.slug: step for step in BEFORE}
_GOALS = {step.slug: step for step in GOALS}


def goal(slug: str) -> Step:
    return _GOALS[slug]


def on_the_way(slug: str) -> Step | None:
    return _BEFORE.get(slug)


def steps_of(before: list[str], last: str) -> list[Step]:
    """The steps of a task in order, the goal at the end."""
    return [step for step in BEFORE if step.slug in before and step.slug != last] + [_GOALS[last]]
