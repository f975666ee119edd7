"""“Play this key, this finger, this string”: one thing after the other, each told at once. For those who begin."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace

from didactor.core.practising.change import Change
from didactor.core.practising.drills.drill import Drill, Material, Prompt
from didactor.core.practising.drills.registry import Kind, register
from didactor.core.score.expected import Expectation
from didactor.core.score.study.fingering import fingering_of
from didactor.core.units import midi_to_name, name_to_midi
from didactor.core.words import _, counted, worded

#: So many things are asked for in one sitting, and at most so many different ones.
ASKED, MOST_DIFFERENT = 10, 8
#: Notes of one name.
LOW, MIDDLE, HIGH = _("low {name}"), _("middle {name}"), _("high {name}")


def _offers(material: Material) -> list[Drill]:
    if not material.instrument.pitched:
        return []
    found = [_strings(material)] if material.instrument.fingering.partition(" ")[0] in ("strings", "frets") else []
    return [drill for drill in (_keys(material), *found) if drill is not None]


def _keys(material: Material) -> Drill | None:
    """The notes of the passage, in the order in which they come."""
    different: dict[int, Prompt] = {}
    written = {note.id: note for note in material.part.notes}
    keyed = material.instrument.fingering == "keyboard"
    for note in material.music.notes:
        if note.grace or note.unpitched or note.sounding_midi in different:
            continue
        own = written.get(note.id)
        fingering = fingering_of(material.instrument, note.sounding_midi - material.instrument.transposition, note.sounding_midi)
        finger = worded("finger {fingering}", fingering=own.fingering) if own is not None and own.fingering else ""
        where = finger if keyed or fingering is None else f"{fingering.words}"
        name = material.names.get(note.id) or note.written_pitch[:-1]
        different[note.sounding_midi] = Prompt(midi=note.sounding_midi, name=name, where=where, note_id=note.id)
    if len(different) < 2:
        return None
    return _drill(material, "keys", worded("The notes of this passage"), _told_apart(list(different.values())[:MOST_DIFFERENT]))


def _told_apart(prompts: list[Prompt]) -> list[Prompt]:
    """Notes of one name are low, middle and high ones."""
    found = []
    for prompt in prompts:
        same = sorted(p.midi for p in prompts if p.name == prompt.name)
        if len(same) == 1:
            found.append(prompt)
            continue
        which = LOW if prompt.midi == same[0] else HIGH if prompt.midi == same[-1] else MIDDLE
        found.append(replace(prompt, name=worded(which, name=prompt.name)))
    return found


def _strings(material: Material) -> Drill | None:
    tuning = material.instrument.fingering.split()[1:]
    prompts = [
        Prompt(
            midi=name_to_midi(name) + material.instrument.transposition,
            name=worded("the open {name} string", name=name[:-1]),
            where=worded("string {tuning}", tuning=len(tuning) - k),
        )
        for k, name in enumerate(tuning)
    ]
    return _drill(material, "strings", worded("The open strings"), prompts) if len({p.midi for p in prompts}) > 1 else None


def _drill(material: Material, of: str, title: str, prompts: Sequence[Prompt]) -> Drill:
    nothing = Expectation(
        part=material.music.part,
        instrument=material.music.instrument,
        transposition=material.music.transposition,
        notes=(),
        bars=material.music.bars[:1],
    )
    return Drill(kind="find", of=of, title=title, music=nothing, step="tone", prompts=tuple(prompts))


def next_prompt(prompts: Sequence[Prompt], told: Sequence[Change]) -> Prompt:
    """What is asked for next: what was not found the last time, then what was asked for least; never the same twice running.

    Args:
        told: earlier ones as changes whose ``after`` is the prompt's name, the oldest first.
    """
    asked = Counter(change.after for change in told)
    last = {change.after: change.right for change in told}
    before = told[-1].after if told else ""
    others = [p for p in prompts if p.name != before] or list(prompts)
    return min(others, key=lambda p: (asked[p.name] - 2 * (last.get(p.name) is False), prompts.index(p)))


def heard_as(midi: float, prompt: Prompt, transposition: int) -> str:
    """What sounded in place of what was asked for, in words."""
    away = round(midi - prompt.midi)
    if away % 12 == 0:
        octaves = abs(away) // 12
        return (
            counted("The right name, an octave too high.", "The right name, {count} octaves too high.", octaves)
            if away > 0
            else counted("The right name, an octave too low.", "The right name, {count} octaves too low.", octaves)
        )
    return worded(
        "{midi_to_name} sounded, in place of {name}.", midi_to_name=midi_to_name(round(midi) - transposition)[:-1], name=prompt.name
    )


register(
    Kind(
        slug="find",
        title=_("Find it"),
        says=_("A note, a finger or a string is asked for; play it, and the next one comes."),
        place=40,
        offers=_offers,
    )
)
