"""Which strings of a strummed chord sounded. Much of it cannot be told from the sound, and then that is said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from didactor.core.analyse import Analysis
from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import NoteJudgement
from didactor.core.practising.change import Change
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.drills.drill import Drill, Material
from didactor.core.practising.drills.reading import could_not_be_judged
from didactor.core.practising.drills.registry import Kind, register
from didactor.core.practising.verdict import SURE, Verdict
from didactor.core.score.expected import ExpectedChord, ExpectedNote, PlayedBar
from didactor.core.score.study.fingering import chord_shape
from didactor.core.units import name_to_midi
from didactor.core.words import _, counted, listed, worded

#: Strums in one go, beats from one to the next.
STRUMS, BEATS_EACH = 4, 4
#: A string is told from so many strums that agree; all but one of those that could be told.
AGREE = 3
#: What lies so many semitones above a lower string rings along with it: its own sound cannot be told apart.
OVERTONES = (0, 12, 19, 24, 28, 31, 36)
SILENT = (_("The string {strings} did not sound."), _("The strings {strings} did not sound."))
SOUNDED = (_("The string {strings} sounded."), _("The strings {strings} sounded."))
CANNOT = (_("The string {strings} cannot be told."), _("The strings {strings} cannot be told."))


def _offers(material: Material) -> list[Drill]:
    if material.instrument.fingering.partition(" ")[0] != "frets" or not material.music.chords:
        return []
    first = {chord.text: chord for chord in reversed(material.music.chords)}
    found = [_drill(material, chord) for chord in sorted(first.values(), key=lambda c: c.onset_quarters)]
    return [drill for drill in found if drill is not None]


def _drill(material: Material, chord: ExpectedChord) -> Drill | None:
    shape = chord_shape(material.instrument, chord.text, chord.pitch_classes)
    if shape is None:
        return None
    tuning = material.instrument.fingering.split()[1:][-len(shape.strings) :]
    beat = material.music.bars[0].beat_quarters
    each = BEATS_EACH * beat
    number = material.music.bar_at(chord.onset_quarters).number
    notes, bars = [], []
    for k in range(STRUMS):
        bars.append(PlayedBar(number=number, pass_=k + 1, start_quarters=k * each, length_quarters=each, beat_quarters=beat))
        for name, open_name, fret in zip(shape.strings, tuning, shape.frets, strict=True):
            if fret is not None:
                notes.append(_note(material, name, name_to_midi(open_name) + fret, open_name, number, k, each))
    return Drill(
        kind="strings",
        of=chord.text,
        title=worded("The strings of {text}", text=chord.text),
        music=replace(material.music, transposition=0, notes=tuple(notes), bars=tuple(bars), chords=(), hairpins=()),
        road=tuple((k * each, chord.onset_quarters, each) for k in range(STRUMS)),
    )


def _note(material: Material, string: str, midi: int, open_name: str, bar: str, k: int, each: float) -> ExpectedNote:
    return ExpectedNote(
        id=string,
        bar=bar,
        pass_=k + 1,
        beat=0.0,
        onset_quarters=k * each,
        duration_quarters=each,
        sounding_midi=midi,
        written_pitch=open_name,
        part=material.music.part,
        staff=1,
        voice="1",
    )


def cannot_be_told(midis: Sequence[int]) -> list[bool]:
    """For each string, whether what it adds rings along with a lower one anyway."""
    return [any(midi - lower in OVERTONES for j, lower in enumerate(midis) if j != k and lower <= midi) for k, midi in enumerate(midis)]


def _reads(drill: Drill, analysis: Analysis, quarter_s: float) -> Verdict:
    if analysis.evidence is None:
        return could_not_be_judged(analysis)
    own = [n for n in drill.music.notes if n.pass_ == 1]
    hidden = dict(zip((n.id for n in own), cannot_be_told([n.sounding_midi for n in own]), strict=True))
    told: list[Change] = []
    for note in own:
        readings = [n for n in analysis.evidence.notes if n.note.id == note.id]
        told.append(Change(before=drill.of, after=note.id, late_s=None, right=None if hidden[note.id] else _sounded(readings)))
    silent = [c.after for c in told if c.right is False]
    unknown = [c.after for c in told if c.right is None]
    cannot = _strings(CANNOT, unknown) if unknown else ""
    if silent:
        return Verdict(
            outcome=Outcome.FAULT,
            says=_one_after_the_other(_strings(SILENT, silent), cannot),
            code="strings.silent",
            changes=tuple(told),
        )
    if len(unknown) == len(told):
        return Verdict(
            outcome=Outcome.UNSURE, says=worded("No string of this chord can be told apart here."), code="doubtful", changes=tuple(told)
        )
    sounded = [c.after for c in told if c.right]
    return Verdict(outcome=Outcome.CLEAN, says=_one_after_the_other(_strings(SOUNDED, sounded), cannot), changes=tuple(told))


def _sounded(readings: Sequence[NoteJudgement]) -> bool | None:
    right = sum(r.status is Status.CORRECT for r in readings)
    missed = sum(r.status is Status.MISSED and r.confidence >= SURE for r in readings)
    if missed >= AGREE and right <= len(readings) - AGREE:
        return False
    return True if right >= AGREE else None


def _strings(words: tuple[str, str], names: Sequence[str]) -> str:
    return counted(*words, len(names), strings=listed(names))


def _one_after_the_other(says: str, cannot: str) -> str:
    return worded("{says} {cannot}", says=says, cannot=cannot) if cannot else says


register(
    Kind(
        slug="strings",
        title=_("Strings that sound"),
        says=_("One chord, strummed slowly four times and left to ring. Strings that ring along with lower ones cannot be told."),
        place=15,
        held=True,
        offers=_offers,
        reads=_reads,
    )
)
