"""How an assignment is practised as a crossing: what the teacher set, or what is usual for its stage and its student."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.db import models

from didactor.assignments.models import Assignment, Task
from didactor.core.judging.stages import BY_SLUG
from didactor.core.practising.crossing import COUNTS, Order, Rule, default_rule
from didactor.core.score.roadmap import bars_between
from didactor.core.score.study.segments import Segment, two_by_two
from didactor.core.steps import ear_of
from didactor.core.words import _
from didactor.library.models import Passage
from didactor.library.notation import expectation_of_passage, read_part


class Practised(models.TextChoices):
    BY_STAGE = "", _("As the stage has it")
    YES = "yes", _("As a crossing")
    NO = "no", _("Without")


@dataclass(frozen=True, kw_only=True)
class CrossingSettings:
    """``tempo``: beats a minute at which a stone is firm; ``bars``: a part of the passage, empty for all of it."""

    rule: Rule
    order: Order
    tempo: float
    bars: str = ""


def crossing_settings(task: Task) -> CrossingSettings | None:
    """The crossing of a task; None without one: of music read at sight or only heard, without notes, of names that are said."""
    assignment = task.assignment
    set_: Mapping[str, Any] = assignment.crossing
    if not is_practised(assignment) or task.passage.note_count == 0 or ear_of(task.targets.step).sounds == "names":
        return None
    young = not task.enrolment.reads_notes
    usual = default_rule(assignment.stage, young=young)
    rule = Rule(
        good=set_.get("good") or usual.good,
        of=set_.get("of") or None,
        counts=set_.get("counts") or usual.counts,
        overnight=set_.get("overnight", True),
    )
    order = Order(set_.get("order") or Order.JOIN_AT_ONCE)
    return CrossingSettings(rule=rule, order=order, tempo=set_.get("tempo") or task.asked_tempo, bars=set_.get("bars", ""))


def is_practised(assignment: Assignment) -> bool:
    """Whether it is practised as a crossing: unless the teacher says otherwise, all but what is read at sight or only listened to."""
    wanted = assignment.crossing.get("on", Practised.BY_STAGE)
    if assignment.is_listening or wanted == Practised.NO:
        return False
    return wanted == Practised.YES or BY_SLUG[assignment.stage].preparation_s is None


def bars_played(passage: Passage) -> tuple[str, ...]:
    """Printed numbers of the bars that are played, in the order of the score, each once."""
    played = {bar.number for bar in expectation_of_passage(passage).bars}
    bars = bars_between(read_part(passage.revision_id, passage.part), passage.bars)
    return tuple(dict.fromkeys(bar.number for bar in bars if bar.number in played))


def segments_of(task: Task, bars: str = "") -> list[Segment]:
    """Where a passage is cut: as the teacher cut it, else two bars at a time; of a part of it only what lies inside. What an order of
    the teacher's own leaves out is not practised.
    """
    passage = task.passage
    part = read_part(passage.revision_id, passage.part)
    whole = [bar for bar in bars_between(part, passage.bars) if bar.number in set(bars_played(passage))]
    inside = {bar.number for bar in (bars_between(part, bars) if bars else whole)} & {bar.number for bar in whole}
    cuts = passage.root.segments
    found = [_segment(text) for text in cuts] if cuts else two_by_two([bar for bar in whole if bar.number in inside])
    return [segment for segment in found if {segment.first, segment.last} <= inside]


def _segment(text: str) -> Segment:
    first, _, last = text.partition("-")
    return Segment(first=first, last=last or first)


def check_crossing(fields: Mapping[str, Any]) -> dict[str, Any]:
    """What the form sent, as it is kept. Raises ``PassageError`` for a rule that makes no sense."""
    if fields.get("good") is not None:
        Rule(good=fields["good"], of=fields.get("of"), counts=fields.get("counts") or next(iter(COUNTS)))
    elif fields.get("of") is not None:
        Rule(good=fields["of"], of=fields["of"])
    return {name: value for name, value in fields.items() if value not in (None, "")}
