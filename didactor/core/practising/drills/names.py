"""The names of the notes in time: touched, then each one is checked; or said, then the pace is listened to."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from didactor.core.analyse import Analysis
from didactor.core.practising.change import Change, is_late
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.drills.drill import Drill, Material, upper_line
from didactor.core.practising.drills.reading import could_not_be_judged
from didactor.core.practising.drills.registry import Kind, register
from didactor.core.practising.verdict import Verdict
from didactor.core.score.expected import ExpectedNote
from didactor.core.steps import ear_of
from didactor.core.words import _, worded

#: Notes in one go, and beats for each one.
NOTES, BEATS_EACH = 8, 1.0
#: A touch belongs to the note whose beat is nearest, up to so many beats away.
FURTHEST_BEATS = 0.75


def _lines(material: Material) -> list[list[ExpectedNote]]:
    line = upper_line(material, min((n.staff for n in material.music.notes), default=1))
    line = [note for note in line if material.names.get(note.id)]
    lines = [line[at : at + NOTES] for at in range(0, len(line), NOTES)]
    return [own for own in lines if len(own) >= NOTES // 2]


def _even(material: Material, notes: Sequence[ExpectedNote], kind: str, step: str) -> Drill:
    """Their names one to a beat, however long they are."""
    beat = BEATS_EACH * material.music.bars[0].beat_quarters
    placed = tuple(
        replace(note, pass_=k + 1, onset_quarters=k * beat, duration_quarters=beat, beat=0.0, articulations=(), slurred_to_next=False)
        for k, note in enumerate(notes)
    )
    bars = tuple(
        replace(material.music.bar_at(note.onset_quarters), start_quarters=k * beat, length_quarters=beat, pass_=k + 1)
        for k, note in enumerate(notes)
    )
    names = tuple(material.names[note.id] for note in notes)
    first, last = notes[0].bar, notes[-1].bar
    return Drill(
        kind=kind,
        of=f"{notes[0].id} {len(notes)}",
        title=worded("Bars {first}–{last}", first=first, last=last) if first != last else worded("Bar {first}", first=first),
        music=replace(material.music, notes=placed, bars=bars, chords=(), hairpins=()),
        road=tuple((k * beat, note.onset_quarters, beat) for k, note in enumerate(notes)),
        step=step,
        touched=names if step == "touch" else (),
        choices=tuple(sorted({name for name in material.names.values() if name})) if step == "touch" else (),
    )


def _offers_touched(material: Material) -> list[Drill]:
    return [] if material.young else [_even(material, notes, "touch_names", "touch") for notes in _lines(material)]


def _offers_said(material: Material) -> list[Drill]:
    if material.young or ear_of("say").refuses(material.music):
        return []
    return [_even(material, notes, "say_names", "say") for notes in _lines(material)]


def touched_verdict(drill: Drill, touches: Sequence[tuple[float, str]], beat_s: float) -> Verdict:
    """What was touched, against the names in time.

    Args:
        touches: seconds from the first note's beat, and the name, in any order.
        beat_s: seconds from one name to the next.
    """
    nearest: dict[int, tuple[float, str]] = {}
    extra = 0
    for at, name in sorted(touches):
        k = round(at / beat_s)
        if not 0 <= k < len(drill.touched) or abs(at - k * beat_s) > FURTHEST_BEATS * beat_s or k in nearest:
            # Far from all, or for a note that has its touch already: one too many.
            extra += 1
            continue
        nearest[k] = (at - k * beat_s, name)
    changes = tuple(
        Change(
            before=drill.touched[k - 1] if k else "",
            after=name,
            late_s=nearest[k][0] if k in nearest else None,
            right=k in nearest and nearest[k][1] == name,
        )
        for k, name in enumerate(drill.touched)
    )
    missed = next((k for k, change in enumerate(changes) if not change.right), None)
    right = sum(bool(change.right) for change in changes)
    if missed is not None:
        note = drill.music.notes[missed]
        was = worded("{nearest} was touched", nearest=nearest[missed][1]) if missed in nearest else worded("nothing was touched in time")
        says = worded(
            "Bar {bar}: it is {touched}, {was}. {right} of {changes} in time.",
            bar=note.bar,
            touched=drill.touched[missed],
            was=was,
            right=right,
            changes=len(changes),
        )
        return Verdict(outcome=Outcome.FAULT, says=says, bar=note.bar, code="names.wrong", changes=changes)
    late = next((k for k, change in enumerate(changes) if is_late(change.late_s, beat_s)), None)
    if late is not None:
        note = drill.music.notes[late]
        says = worded(
            "Bar {bar}: {touched} came {late_s:.1f} s late; all names right.",
            bar=note.bar,
            touched=drill.touched[late],
            late_s=changes[late].late_s or 0.0,
        )
        return Verdict(outcome=Outcome.FAULT, says=says, bar=note.bar, code="names.late", changes=changes)
    if extra:
        return Verdict(
            outcome=Outcome.FAULT,
            says=worded("All names right, but more was touched than is written."),
            code="names.extra",
            changes=changes,
        )
    return Verdict(outcome=Outcome.CLEAN, says=worded("All {changes} in time.", changes=len(changes)), changes=changes)


def _reads(drill: Drill, analysis: Analysis, quarter_s: float) -> Verdict:
    """Of what is said only the pace: where the voice stops, and how many names were said."""
    evidence = analysis.evidence
    if evidence is None:
        return could_not_be_judged(analysis)
    beat_s = drill.music.bars[0].beat_quarters * quarter_s
    timed = [(n.note, n.onset_s) for n in evidence.notes]
    heard = sum(at is not None for _, at in timed)
    if heard < 0.7 * len(timed):
        return Verdict(
            outcome=Outcome.UNSURE, says=worded("Too few of the names could be heard. Say them aloud, one to a beat."), code="doubtful"
        )
    for (_note, before), (note, at) in pairwise(timed):
        if before is not None and at is not None and is_late(at - before - beat_s, beat_s) and at - before - beat_s > 0.5 * beat_s:
            says = worded(
                "Bar {bar}: a stop of {at:.1f} s. (What was said is not listened to, only when.)", bar=note.bar, at=at - before - beat_s
            )
            return Verdict(outcome=Outcome.FAULT, says=says, bar=note.bar, code="names.late", start_s=before, end_s=at)
    return Verdict(outcome=Outcome.CLEAN, says=worded("In time. What was said is not listened to, only when."))


register(
    Kind(
        slug="touch_names",
        title=_("Names touched in time"),
        says=_("One name to a beat: touch it while the score goes by."),
        place=50,
        offers=_offers_touched,
    )
)
register(
    Kind(
        slug="say_names",
        title=_("Names said in time"),
        says=_("One name to a beat, aloud. Only the pace is listened to."),
        place=60,
        offers=_offers_said,
        reads=_reads,
    )
)
