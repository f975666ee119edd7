"""What a take's tone is, in words: by itself, and beside the best other take that the student has of the same passage."""

from __future__ import annotations

from didactor.core.formats.plain import from_plain
from didactor.core.tone.compare import Remark, compare, facts
from didactor.core.tone.measure import Tone
from didactor.takes.models import Analysis, Take, TakeState

#: What has to be the same for two takes to be compared note by note.
_SAME = ("revision_id", "part", "bars", "order", "step")


def tone_told(take: Take, *, handed_in: bool) -> list[Remark]:
    """Nothing where the recording does not carry it. ``handed_in``: what the student kept to themselves is not for the teacher's ears."""
    analysis = take.latest_analysis
    own = tone_in(analysis)
    if own is None:
        return []
    best = best_other(take, handed_in=handed_in)
    other = tone_in(best.latest_analysis) if best else None
    compared = compare(own, other, str(best).lower()) if best and other else []
    return [*compared, *facts(own)]


def tone_in(analysis: Analysis | None) -> Tone | None:
    """What was measured; None for analyses from before it was."""
    return from_plain(Tone, analysis.tone) if analysis is not None and analysis.tone else None


def best_other(take: Take, *, handed_in: bool) -> Take | None:
    """The student's take of the same notes with the fewest remarks, the newest of those; None without another one."""
    others = take.task.takes.filter(state=TakeState.ANALYSED).exclude(pk=take.pk)
    if handed_in:
        others = others.filter(submission__isnull=False)
    rows = others.exclude(analyses__tone=None).values_list("pk", "basis", "analyses__summary__findings").order_by("number")
    wanted = [take.basis.get(name) for name in _SAME]
    same = [(found or 0, -k, pk) for k, (pk, basis, found) in enumerate(rows) if [basis.get(name) for name in _SAME] == wanted]
    return Take.objects.prefetch_related("analyses").get(pk=min(same)[2]) if same else None
