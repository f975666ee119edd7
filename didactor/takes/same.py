"""Takes that are one recording: another student's, or an earlier one of the same student's."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from didactor.core.comparing.same_recording import Moment, same_recording
from didactor.library.notation import expectation_of_passage
from didactor.takes.models import Analysis, Take

#: The newest takes of the same assignment that one is compared with.
COMPARED_WITH = 200


def note_same_recording(take: Take) -> None:
    """Keep which earlier take this one is the same recording as, if any."""
    found = find_same(take)
    if found != take.same_as_id:
        Take.objects.filter(pk=take.pk).update(same_as=found)
        take.same_as_id = found


def find_same(take: Take) -> int | None:
    """The id of the earliest take of the same assignment that is this one's recording; None where there is none or it cannot be told."""
    own = Analysis.objects.filter(take=take).order_by("-created_at").values_list("moments", flat=True).first()
    if not own:
        return None
    moments = _moments(own)
    quarters = {(n.bar, n.pass_, round(n.beat, 3)): n.onset_quarters for n in expectation_of_passage(take.task.passage).notes}
    others = (
        Analysis.objects.filter(take__task__assignment=take.task.assignment_id, take__pk__lt=take.pk)
        .exclude(moments=[])
        .order_by("-take_id", "created_at")
        .values_list("take_id", "moments")[:COMPARED_WITH]
    )
    same = [number for number, kept in others if same_recording(moments, _moments(kept), quarters)]
    return min(same, default=None)


def _moments(kept: Any) -> Mapping[Moment, float]:
    return {(bar, pass_, beat): at for bar, pass_, beat, at in kept}
