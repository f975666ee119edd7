"""Drills of a task: what is offered, what came of them, and what one go is heard against."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import quote

from django.urls import reverse

from didactor.assignments.models import Task
from didactor.core.errors import PassageError
from didactor.core.formats.lanes.fingering import chord_picture
from didactor.core.instruments import find_instrument
from didactor.core.judging.targets import Targets
from didactor.core.planning.tempi import rungs
from didactor.core.practising.attempt import Asked
from didactor.core.practising.change import Cell, Change, table
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.drills.drill import Drill, Go, Material, tempo_of
from didactor.core.practising.drills.find_it import next_prompt
from didactor.core.practising.drills.names import touched_verdict
from didactor.core.practising.drills.registry import Kind, all_kinds, drill_of, kind_of
from didactor.core.practising.drills.warm_up import MOST, Known, warm_up
from didactor.core.practising.verdict import Verdict
from didactor.core.score.expected import of_staff
from didactor.core.score.study.fingering import chord_shape
from didactor.core.score.study.reading_aids import note_name
from didactor.core.units import beats_to_quarters_per_minute
from didactor.core.words import worded
from didactor.library.notation import expectation_of_passage, read_part
from didactor.people.models import Enrolment
from didactor.practice.models import Attempt, OutcomeChoices
from didactor.practice.models import Drill as Row

#: By slug.
KINDS = {kind.slug: kind for kind in all_kinds()}
#: Goes that the table of changes looks back on; tasks among whose drills a warm-up is chosen.
GOES_COUNTED, TASKS_LOOKED_AT = 40, 12


def material_of(task: Task) -> Material | None:
    """What drills of a task are made of; None where nothing is written, or nobody may see it yet."""
    if task.is_sealed or task.passage.note_count == 0 or task.assignment.is_listening:
        return None
    passage, studio = task.passage, task.enrolment.student.studio
    part = read_part(passage.revision_id, passage.part)
    try:
        music = of_staff(expectation_of_passage(passage), task.targets.staff)
    except PassageError:
        return None
    if not music.notes or not music.bars:
        return None
    fifths = {bar.index: bar.fifths for bar in part.bars}
    naming = studio.naming
    return Material(
        part=part,
        music=music,
        instrument=find_instrument(task.enrolment.instrument),
        failed=_failed(task),
        step=task.targets.step,
        young=not task.enrolment.reads_notes,
        names={n.id: note_name(n, fifths[n.bar_index], naming, studio.note_names) for n in part.notes},
    )


def _failed(task: Task) -> dict[str, int]:
    lists = task.attempts.for_crossing().filter(outcome=OutcomeChoices.FAULT).values_list("at_fault", flat=True)
    return dict(Counter(note for at_fault in lists for note, _ in at_fault))


@dataclass(frozen=True, kw_only=True)
class Offered:
    """One drill that a task offers, with how often it was done and how the last go went."""

    drill: Drill
    goes: int
    last: Attempt | None


@dataclass(frozen=True, kw_only=True)
class OfKind:
    """All drills of one kind, and the table of the changes in them, the slowest first."""

    kind: Kind
    drills: tuple[Offered, ...]
    cells: tuple[Cell, ...]


def drills_of(task: Task) -> list[OfKind]:
    """What a task offers, by kind; of kinds with changes those that came latest first."""
    material = material_of(task)
    if material is None:
        return []
    goes: dict[tuple[str, str], list[Attempt]] = {}
    for attempt in task.attempts.of_drills().select_related("drill"):
        goes.setdefault((attempt.drill.kind, attempt.drill.of), []).append(attempt)
    found = []
    for kind in all_kinds():
        offered = kind.offers(material)
        if not offered:
            continue
        changes = {drill.of: _changes(goes.get((kind.slug, drill.of), [])) for drill in offered}
        slowest = {drill.of: max((c.late_s for c in table(changes[drill.of]) if c.late_s is not None), default=0.0) for drill in offered}
        rows = tuple(
            Offered(drill=drill, goes=len(own), last=own[-1] if own else None)
            for drill in sorted(offered, key=lambda drill: -slowest[drill.of])[: kind.most]
            for own in [goes.get((kind.slug, drill.of), [])]
        )
        cells = table(change for own in changes.values() for change in own if kind.changes)
        found.append(OfKind(kind=kind, drills=rows, cells=tuple(cells)))
    return found


def changes_of(attempt: Attempt) -> tuple[Change, ...]:
    """What a go's changes were, as they were kept."""
    return tuple(Change(before=b, after=a, late_s=late, right=right) for b, a, late, right in attempt.changes)


def _changes(goes: Sequence[Attempt]) -> list[Change]:
    return [change for attempt in goes[-GOES_COUNTED:] for change in changes_of(attempt)]


def drill_in(task: Task, kind: str, of: str) -> Drill | None:
    """One drill by its kind and what it is of; None where the task does not offer it."""
    material = material_of(task)
    return drill_of(material, kind, of) if material else None


def _goes(task: Task, drill: Drill) -> list[Attempt]:
    return list(task.attempts.of_drills().filter(drill__kind=drill.kind, drill__of=drill.of))


def drill_data(task: Task, drill: Drill) -> dict[str, Any]:
    """Where a drill stands and what is played next, for the page and after each go."""
    goes, kind = _goes(task, drill), KINDS[drill.kind]
    counted = [a for a in goes if a.counts_as in (Outcome.CLEAN, Outcome.FAULT)]
    tempo = tempo_of(
        [Go(tempo=a.tempo, good=a.counts_as is Outcome.CLEAN) for a in counted],
        rungs(task.asked_tempo, task.assignment.ladder),
        task.asked_tempo,
    )
    prompt = next_prompt(drill.prompts, _changes(counted)) if drill.prompts else None
    bars, passage = drill.music.bars, expectation_of_passage(task.passage)
    return {
        "next": {
            "kind": drill.kind,
            "of": drill.of,
            "tempo": tempo,
            "road": [list(stretch) for stretch in drill.road],
            "length": max((n.onset_quarters + n.duration_quarters for n in drill.music.notes), default=0.0),
            "beat": bars[0].beat_quarters if bars else 1.0,
            "pickup": 0.0,
            "shown": sorted({passage.bar_at(stretch[1]).number for stretch in drill.road}),
            "marks": [prompt.note_id] if prompt else sorted({n.id for n in drill.music.notes}) if kind.two else [],
            "prompt": {"name": prompt.name, "where": prompt.where, "note": prompt.note_id} if prompt else None,
            "touched": len(drill.touched),
            "each": drill.music.notes[1].onset_quarters - drill.music.notes[0].onset_quarters if len(drill.music.notes) > 1 else 1.0,
        },
        "goes": len(counted),
        "good": sum(a.counts_as is Outcome.CLEAN for a in counted),
        "cells": [cell_data(cell) for cell in table(_changes(goes))] if kind.changes else [],
    }


def shapes_of(task: Task, drill: Drill) -> list[tuple[str, str]]:
    """The chords of a drill and how each is held, as drawings; no drawing where no shape is known."""
    if not KINDS[drill.kind].held:
        return []
    instrument = find_instrument(task.enrolment.instrument)
    texts = drill.of.split(">")
    chords = {chord.text: chord for chord in expectation_of_passage(task.passage).chords}
    shapes = [chord_shape(instrument, text, chords[text].pitch_classes) if text in chords else None for text in texts]
    return [(text, chord_picture(shape) if shape else "") for text, shape in zip(texts, shapes, strict=True)]


def cell_data(cell: Cell) -> dict[str, Any]:
    return {"before": cell.before, "after": cell.after, "late": cell.late_s, "count": cell.count, "wrong": cell.wrong}


def drill_now(attempt: Attempt) -> dict[str, Any] | None:
    """Where the drill of a go stands after it."""
    drill = drill_in(attempt.task, attempt.drill.kind, attempt.drill.of) if attempt.drill else None
    return drill_data(attempt.task, drill) if drill else None


def row_of(task: Task, drill: Drill) -> Row:
    """The row that goes of a drill belong to."""
    return Row.objects.get_or_create(task=task, kind=drill.kind, of=drill.of)[0]


def asked_of_drill(attempt: Attempt) -> Asked:
    """What a go is heard against. Raises ``PassageError`` where the passage does not offer the drill any more."""
    task, row = attempt.task, attempt.drill
    drill = drill_in(task, row.kind, row.of) if row else None
    kind = kind_of(row.kind) if row else None
    if drill is None or kind is None:
        raise PassageError("drill.gone", worded("The passage has changed since: this drill is there no more."))
    targets = Targets(tempo_qpm=task.targets.tempo_qpm, instrument=task.targets.instrument)
    if drill.prompts:
        prompt = next((p for p in drill.prompts if p.name == attempt.prompt), drill.prompts[0])
        return Asked(music=drill.music, targets=targets, qpm=60.0, start_s=attempt.start_s, prompt=prompt)
    reads = kind.reads
    return Asked(
        music=drill.music,
        targets=replace(targets, step=drill.step),
        qpm=beats_to_quarters_per_minute(attempt.tempo, task.assignment.beat_unit),
        start_s=attempt.start_s,
        counts="rhythm" if drill.step == "clap" else "notes",
        reads=(lambda analysis, quarter_s: reads(drill, analysis, quarter_s)) if reads else None,
    )


def judge_touches(task: Task, drill: Drill, tempo: float, touches: Sequence[tuple[float, str]]) -> Verdict:
    """What was touched in time, judged."""
    quarter_s = 60.0 / beats_to_quarters_per_minute(tempo, task.assignment.beat_unit)
    each = drill.music.notes[1].onset_quarters - drill.music.notes[0].onset_quarters
    return touched_verdict(drill, touches, each * quarter_s)


@dataclass(frozen=True, kw_only=True)
class Warm:
    """One drill of a warm-up, in the piece it comes from."""

    task: Task
    drill: Drill

    @property
    def address(self) -> str:
        return f"{reverse('practice:drill', args=[self.task.pk, self.drill.kind])}?of={quote(self.drill.of)}"


def following(task: Task, drill: Drill) -> Warm | None:
    """What comes after a drill in its student's warm-up; None after the last."""
    whole = warm_up_of(task.enrolment)
    at = next((k for k, warm in enumerate(whole) if (warm.task.pk, warm.drill.kind, warm.drill.of) == (task.pk, drill.kind, drill.of)), -1)
    return whole[at + 1] if 0 <= at < len(whole) - 1 else None


def warm_up_of(enrolment: Enrolment) -> list[Warm]:
    """A minute of a student's slowest changes across all pieces, the worst first; where none is known, the hardest of each piece."""
    tasks = list(
        Task.objects.filter(enrolment=enrolment, withdrawn_at=None, assignment__own_grade=None)
        .for_lists()
        .order_by("-assignment__due_at", "pk")[:TASKS_LOOKED_AT]
    )
    by_id = {task.pk: task for task in tasks}
    goes: dict[tuple[int, str, str], list[Attempt]] = {}
    for attempt in (
        Attempt.objects.of_drills()
        .filter(task__in=by_id, drill__kind__in=[kind.slug for kind in all_kinds() if kind.changes])
        .select_related("drill")
    ):
        goes.setdefault((attempt.task_id, attempt.drill.kind, attempt.drill.of), []).append(attempt)
    keys = {f"{task} {kind} {of}": (task, kind, of) for task, kind, of in goes}
    known = [Known(key=key, changes=tuple(_changes(goes[at]))) for key, at in keys.items()]
    found = [
        Warm(task=by_id[task], drill=drill)
        for task, kind, of in (keys[key] for key in warm_up(known))
        if (drill := drill_in(by_id[task], kind, of)) is not None
    ]
    for task in tasks:
        if len(found) >= MOST:
            break
        material = material_of(task) if task.pk not in {warm.task.pk for warm in found} else None
        hardest = next((drill for kind in all_kinds() if material and kind.changes for drill in kind.offers(material)), None)
        if hardest is not None:
            found.append(Warm(task=task, drill=hardest))
    return found[:MOST]
