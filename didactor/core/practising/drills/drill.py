"""A drill: what is played, touched or struck over and over, and what is told of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from didactor.core.instruments import Instrument
from didactor.core.practising.change import Change
from didactor.core.score.expected import Expectation, ExpectedNote, PlayedBar
from didactor.core.score.model import Part

#: A drill begins at this share of the passage's tempo; so many good goes in a row lead up a rung, so many failed ones down.
BEGINS_AT, UP_AFTER, DOWN_AFTER = 0.7, 2, 2


@dataclass(frozen=True, kw_only=True)
class Material:
    """What drills are made of.

    Args:
        part: what the student reads.
        music: the passage in the order in which it is played.
        failed: how often each note went wrong in practice, by its id.
        step: what the task asks for (a slug of ``core/steps``).
        young: who does not read notes yet.
        names: what each note is called in this studio, by its id.
    """

    part: Part
    music: Expectation
    instrument: Instrument
    failed: Mapping[str, int] = field(default_factory=dict)
    step: str = "play"
    young: bool = False
    names: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Prompt:
    """One thing to find: what is asked for in words, and where it lies (a finger, a string, a key), as far as that is known."""

    midi: int
    name: str
    where: str = ""
    note_id: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Drill:
    """``of`` says which one of its kind it is, and holds as long as the passage does.

    ``music`` is what one go is heard against, with ``step``'s ear; ``road`` where in the passage that lies, as stretches of (quarters
    played so far, quarters of the passage, length and, where it is less, how much of it sounds there). ``prompts``: what is asked for
    one by one instead; ``touched``: names to be touched instead, with those there are to choose from.
    """

    kind: str
    of: str
    title: str
    music: Expectation
    road: tuple[tuple[float, ...], ...] = ()
    step: str = "play"
    prompts: tuple[Prompt, ...] = ()
    touched: tuple[str, ...] = ()
    choices: tuple[str, ...] = ()


def one_after_the_other(
    material: Material, notes: Sequence[ExpectedNote], each_quarters: float, in_a_bar: int, *, unpitched: bool = False
) -> Expectation:
    """Notes of a passage lifted out and played evenly, so many to a bar; each bar is one more time.

    Args:
        each_quarters: from one to the next.
    """
    beat = material.music.bars[0].beat_quarters if material.music.bars else 1.0
    placed = []
    for k, note in enumerate(notes):
        placed.append(
            replace(
                note,
                bar=notes[k // in_a_bar * in_a_bar].bar,
                pass_=k // in_a_bar + 1,
                beat=(k % in_a_bar) * each_quarters,
                onset_quarters=k * each_quarters,
                duration_quarters=each_quarters,
                grace=False,
                articulations=(),
                slurred_to_next=False,
                optional=False,
                unpitched=note.unpitched or unpitched,
            )
        )
    bars = [
        PlayedBar(
            number=placed[at].bar,
            pass_=at // in_a_bar + 1,
            start_quarters=at * each_quarters,
            length_quarters=min(in_a_bar, len(placed) - at) * each_quarters,
            beat_quarters=beat,
        )
        for at in range(0, len(placed), in_a_bar)
    ]
    return replace(material.music, notes=tuple(placed), bars=tuple(bars), chords=(), hairpins=())


def upper_line(material: Material, staff: int) -> list[ExpectedNote]:
    """The highest note of every moment of a staff, in order: the line that a hand travels."""
    top: dict[tuple[float, int], ExpectedNote] = {}
    for note in material.music.notes:
        if note.staff != staff or note.grace or note.unpitched:
            continue
        key = (round(note.onset_quarters, 6), note.staff)
        if key not in top or note.sounding_midi > top[key].sounding_midi:
            top[key] = note
    return [top[key] for key in sorted(top)]


@dataclass(frozen=True, slots=True, kw_only=True)
class Go:
    """One go at a drill that had an outcome: at ``tempo`` beats a minute; ``good`` without a fault."""

    tempo: float
    good: bool
    changes: tuple[Change, ...] = ()


def tempo_of(goes: Sequence[Go], rungs: Sequence[float], target: float) -> float:
    """At what tempo the next go is: two good ones lead up a rung, two failed ones down, never above the target.

    Args:
        goes: those at this drill, the oldest first.
        rungs: tempi that can be chosen, ascending.
    """
    ladder = [r for r in rungs if r <= target + 0.5] or list(rungs[:1])
    at = max((k for k, r in enumerate(ladder) if r <= BEGINS_AT * target + 0.5), default=0)
    row = 0
    for go in goes:
        row = (max(0, row) + 1) if go.good else (min(0, row) - 1)
        if row >= UP_AFTER:
            at, row = min(at + 1, len(ladder) - 1), 0
        elif row <= -DOWN_AFTER:
            at, row = max(at - 1, 0), 0
    return ladder[at]
