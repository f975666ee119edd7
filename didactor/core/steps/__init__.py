"""What is done with a passage: play it, clap it, strum its chords, say its names … A new step is one module here that registers itself.

An ``Ear`` says how takes of a step are heard and what is judged in them; a ``Step`` is what a teacher asks for, in the end or on the way
there, with or without an ear.
"""

from didactor.core.steps.registry import (
    Ear,
    Hear,
    Step,
    all_ears,
    all_steps,
    ear_of,
    goal,
    goals,
    on_the_way,
    proposed_ear,
    steps_before,
    steps_to,
)

__all__ = [
    "Ear",
    "Hear",
    "Step",
    "all_ears",
    "all_steps",
    "ear_of",
    "goal",
    "goals",
    "on_the_way",
    "proposed_ear",
    "steps_before",
    "steps_to",
]
