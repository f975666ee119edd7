"""Why the same places fail again and again in practice: the causes of one take, asked of all attempts together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from didactor.core.causes.registry import Cause, causes_of
from didactor.core.engine import engine_version
from didactor.core.formats.result import NoteResult, Result, Sound, SoundQuality
from didactor.core.hearing.hearing import Status
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from didactor.core.score.model import Part

#: A note keeps failing when it failed so often, and in this share of the attempts that it was played in.
FEWEST_TIMES, FROM_SHARE = 2, 0.34


@dataclass(frozen=True, slots=True, kw_only=True)
class Tried:
    """One attempt: the ids of the notes that were to be played, and of those at fault what sounded instead (None: nothing did)."""

    played: frozenset[str]
    at_fault: Mapping[str, int | None]


def causes_in_practice(part: Part, music: Expectation, tries: Sequence[Tried], targets: Targets) -> list[Cause]:
    """What may be behind the notes that keep failing, the surest first; empty where they may be chance.

    Each note counts once, however often it was tried: one hard note is no pattern. A pass of a bar is one with the others.
    """
    times = Counter(note for one in tries for note in one.played)
    failed = Counter(note for one in tries for note in one.at_fault)
    instead = {note: Counter(one.at_fault[note] for one in tries if note in one.at_fault).most_common(1)[0][0] for note in failed}
    notes = []
    for note in music.notes:
        if note.grace or note.pass_ > 1 or not times[note.id]:
            continue
        fails = failed[note.id] >= FEWEST_TIMES and failed[note.id] >= FROM_SHARE * times[note.id]
        heard = instead[note.id] if fails else note.sounding_midi
        status = Status.CORRECT if not fails else Status.MISSED if heard is None else Status.WRONG_PITCH
        notes.append(
            NoteResult(
                id=note.id,
                bar=note.bar,
                pass_=note.pass_,
                beat=note.beat,
                part=1,
                staff=note.staff,
                written_pitch=note.written_pitch,
                sounding_midi=note.sounding_midi,
                status=status,
                confidence=1.0,
                heard_midi=heard,
            )
        )
    quality = SoundQuality(verdict="ok", problems=())
    sound = Sound(duration_s=0.0, quality=quality)
    return causes_of(Result(engine_version=engine_version(), audio=sound, targets=targets, notes=tuple(notes)), part)
