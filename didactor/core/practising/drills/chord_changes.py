"""Two chords in turn, one stroke each: the pair whose change is hardest."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from itertools import pairwise

from didactor.core.analyse import Analysis
from didactor.core.hearing.hearing import Status
from didactor.core.practising.drills.drill import Drill, Material, one_after_the_other
from didactor.core.practising.drills.reading import could_not_be_judged, told_of_changes
from didactor.core.practising.drills.registry import Kind, register
from didactor.core.practising.verdict import SURE, Verdict
from didactor.core.score.expected import ExpectedChord, ExpectedNote
from didactor.core.score.study.fingering import chord_shape
from didactor.core.steps import ear_of
from didactor.core.words import _, worded

#: Strokes in one go; beats from one to the next.
STROKES, BEATS_EACH = 8, 2


def _offers(material: Material) -> list[Drill]:
    chords = material.music.chords
    if not chords or not (material.instrument.many_voices or material.step == "chords") or ear_of("chords").refuses(material.music):
        return []
    times: Counter[tuple[str, str]] = Counter()
    for one, other in pairwise(chords):
        if one.text != other.text:
            times[min(one.text, other.text), max(one.text, other.text)] += 1
    first = {chord.text: chord for chord in reversed(chords)}
    hardest = sorted(times, key=lambda pair: (-_fingers_that_move(material, first[pair[0]], first[pair[1]]), -times[pair], pair))
    return [_drill(material, first[a], first[b]) for a, b in hardest]


def _fingers_that_move(material: Material, one: ExpectedChord, other: ExpectedChord) -> int:
    """Strings that are pressed otherwise in the second chord; 0 where no shape is known."""
    shapes = [chord_shape(material.instrument, c.text, c.pitch_classes) for c in (one, other)]
    if shapes[0] is None or shapes[1] is None:
        return 0
    return sum(a != b for a, b in zip(shapes[0].frets, shapes[1].frets, strict=True))


def _drill(material: Material, one: ExpectedChord, other: ExpectedChord) -> Drill:
    beat = material.music.bars[0].beat_quarters
    each = BEATS_EACH * beat
    strokes = []
    for k in range(STROKES):
        chord = (one, other)[k % 2]
        strokes.append(
            ExpectedNote(
                id=f"{chord.text}-{k // 2}",
                bar=material.music.bar_at(chord.onset_quarters).number,
                pass_=1,
                beat=0.0,
                onset_quarters=0.0,
                duration_quarters=each,
                sounding_midi=60,
                written_pitch="C4",
                part=material.music.part,
                staff=1,
                voice="1",
                unpitched=True,
            )
        )
    music = one_after_the_other(material, strokes, each, 2)
    placed = tuple(replace((one, other)[k % 2], onset_quarters=k * each) for k in range(STROKES))
    road = tuple((k * each, (one, other)[k % 2].onset_quarters, each) for k in range(STROKES))
    return Drill(
        kind="chords",
        of=f"{one.text}>{other.text}",
        title=worded("{text} and {text_2}", text=one.text, text_2=other.text),
        music=replace(music, chords=placed),
        road=road,
        step="chords",
    )


def _reads(drill: Drill, analysis: Analysis, quarter_s: float) -> Verdict:
    if analysis.evidence is None or analysis.evidence.chords is None:
        return could_not_be_judged(analysis)
    readings = {round(r.note.onset_quarters, 4): r for r in analysis.evidence.chords}
    own = [readings.get(round(note.onset_quarters, 4)) for note in drill.music.notes]
    right = [None if r is None or r.status is Status.UNCERTAIN or r.confidence < SURE else r.status is Status.CORRECT for r in own]
    each, beat = drill.music.notes[1].onset_quarters, drill.music.bars[0].beat_quarters
    return told_of_changes(
        [chord.text for chord in drill.music.chords],
        [r.onset_s if r else None for r in own],
        right,
        wait_s=each * quarter_s,
        beat_s=beat * quarter_s,
        what="chord",
    )


register(
    Kind(
        slug="chords",
        title=_("Chord changes"),
        says=_("Two chords in turn, one stroke each, the hardest change first."),
        place=10,
        changes=True,
        held=True,
        offers=_offers,
        reads=_reads,
    )
)
