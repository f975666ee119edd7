"""The rhythm of a bar on one note: whichever lies well. The ear listens to when, not to what."""

from __future__ import annotations

from dataclasses import replace

from didactor.core.practising.drills.drill import Drill, Material
from didactor.core.practising.drills.registry import Kind, register
from didactor.core.score.expected import Expectation, ExpectedNote, PlayedBar
from didactor.core.score.study.difficulty import rhythm_of_bar
from didactor.core.words import _, worded

#: So often a bar is played in one go.
TIMES = 2


def _offers(material: Material) -> list[Drill]:
    if material.step == "chords":
        return []
    found: dict[tuple[float, ...], tuple[float, Drill]] = {}
    for bar in material.music.bars:
        notes = _strokes(material.music, bar)
        if bar.pass_ > 1 or len(notes) < 2:
            continue
        failed = sum(material.failed.get(n.id, 0) for n in notes)
        worth = rhythm_of_bar(notes, bar) + 0.3 * failed
        rhythm = tuple(round(x, 3) for n in notes for x in (n.beat, n.duration_quarters))
        # Bars of one rhythm are one drill; even notes are none.
        if worth > 0 and (rhythm not in found or found[rhythm][0] < worth):
            found[rhythm] = (worth, _drill(material, bar, notes))
    hardest = sorted(found.values(), key=lambda entry: -entry[0])
    return [drill for _, drill in hardest]


def _strokes(music: Expectation, bar: PlayedBar) -> list[ExpectedNote]:
    """One for all that begins together."""
    own: dict[float, ExpectedNote] = {}
    for note in music.notes:
        if (note.bar, note.pass_) == (bar.number, bar.pass_) and not note.grace:
            known = own.get(note.beat)
            if known is None or note.duration_quarters < known.duration_quarters:
                own[note.beat] = note
    return [own[beat] for beat in sorted(own)]


def _drill(material: Material, bar: PlayedBar, notes: list[ExpectedNote]) -> Drill:
    length = bar.length_quarters
    played = [
        replace(note, pass_=k + 1, onset_quarters=k * length + note.beat, articulations=(), slurred_to_next=False)
        for k in range(TIMES)
        for note in notes
    ]
    bars = tuple(replace(bar, pass_=k + 1, start_quarters=k * length) for k in range(TIMES))
    return Drill(
        kind="rhythm",
        of=f"bar {bar.number}",
        title=worded("The rhythm of bar {number}", number=bar.number),
        music=replace(material.music, notes=tuple(played), bars=bars, chords=(), hairpins=()),
        road=tuple((k * length, bar.start_quarters, length) for k in range(TIMES)),
        step="clap",
    )


register(
    Kind(
        slug="rhythm",
        title=_("The rhythm on one note"),
        says=_("A bar’s rhythm, twice, on one note that lies well: only when counts, not which."),
        place=30,
        most=4,
        offers=_offers,
    )
)
