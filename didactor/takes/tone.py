"""What a take's tone is, in words: by itself, and beside the best other take that the student has of the same passage."""

from __future__ import annotations

from didactor.core.formats.plain import from_plain
from didactor.core.tone.compare import CHORDS, Remark, compare, facts, voicing
from didactor.core.tone.measure import Tone
from didactor.core.words import worded
from didactor.library.sounds import known_references
from didactor.takes.listening import passage_of
from didactor.takes.models import Analysis, Take, TakeState
from didactor.takes.others import takes_of_task

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
    if not any(remark.code == "tone.voicing" for remark in compared):
        compared += _beside_the_teacher(take, own)
    return [*compared, *facts(own)]


def _beside_the_teacher(take: Take, own: Tone) -> list[Remark]:
    """How chords are balanced beside the teacher's own recording, the first that says something; one remark, not one for each."""
    if len(own.chords) < CHORDS:
        return []
    passage = passage_of(take)
    for reference in known_references(passage):
        if reference.tone is not None:
            found = voicing(own, from_plain(Tone, reference.tone), worded("the recording of {name}", name=reference.created_by.name))
            if found:
                return found
    return []


def tone_in(analysis: Analysis | None) -> Tone | None:
    """What was measured; None for analyses from before it was."""
    return from_plain(Tone, analysis.tone) if analysis is not None and analysis.tone else None


def best_other(take: Take, *, handed_in: bool) -> Take | None:
    """The student's take of the same notes with the fewest remarks, the newest of those; None without another one."""
    others = [t for t in takes_of_task(take) if t.pk != take.pk and t.state == TakeState.ANALYSED and (t.is_submitted or not handed_in)]
    same = [t for t in others if all(t.basis.get(name) == take.basis.get(name) for name in _SAME) and tone_in(t.latest_analysis)]
    return min(same, key=lambda t: (_remarks(t.latest_analysis), -t.number), default=None)


def _remarks(analysis: Analysis | None) -> int:
    return (analysis.summary.get("findings") if analysis else None) or 0
