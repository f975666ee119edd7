"""One attempt heard: its sound and what it was counted off to in, its verdict out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from didactor.core.analyse import Analysis, analyse
from didactor.core.causes.registry import causes_of
from didactor.core.formats.analysis_json import result_of
from didactor.core.instruments import Instrument, find_instrument
from didactor.core.judging.targets import Targets
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.drills import tone
from didactor.core.practising.drills.drill import Prompt
from didactor.core.practising.ending import Due, Look, Now, broken_off, goes_on, is_complete, now
from didactor.core.practising.verdict import Verdict, verdict
from didactor.core.score.expected import Expectation
from didactor.core.score.model import Part
from didactor.core.sound.recording import RATE_HZ, Recording
from didactor.core.steps import ear_of
from didactor.core.words import _

#: Playing may begin a little before the count-off says; the last click lies further back.
EARLY_S, EARLY_BEATS = 0.3, 0.4
#: What counts, by the stage that judges it so.
STAGES = {"notes": "first_reading", "rhythm": "steady", "all": "at_tempo"}
NOTHING = _("Nothing was played. Press when you are ready, or check the microphone.")
#: What is told of a drill, from what was heard and seconds a quarter.
Reads = Callable[[Analysis, float], Verdict]


@dataclass(frozen=True, slots=True, kw_only=True)
class Asked:
    """What an attempt is heard against. ``start_s``: when, in its sound, the music is due to begin; ``targets`` are those of the task.

    ``part`` is what the student reads, where the score may say why something went wrong. Of a drill: ``reads`` is how it is read instead,
    seconds a quarter given; ``prompt`` the one thing that was asked for.
    """

    music: Expectation
    targets: Targets
    qpm: float
    start_s: float
    counts: str = "notes"
    leave_out: frozenset[str] = frozenset()
    part: Part | None = None
    reads: Reads | None = None
    prompt: Prompt | None = None

    @property
    def instrument(self) -> Instrument:
        return find_instrument(self.targets.instrument or self.music.instrument)

    @property
    def due(self) -> Due:
        return Due.of(self.music, self.start_s, self.qpm, strokes=ear_of(self.targets.step).sounds == "strokes")


@dataclass(frozen=True, slots=True, kw_only=True)
class Heard:
    """``verdict`` None: it goes on. ``look`` is to be handed in again with the next piece."""

    verdict: Verdict | None
    look: Look | None


def attend(samples: npt.NDArray[np.float32], asked: Asked, last: Look | None = None) -> Heard:
    """What has come of an attempt so far (mono at ``RATE_HZ``): whether it is over, and then what it was."""
    if asked.prompt is not None:
        return Heard(verdict=tone.found(samples, asked.prompt, asked.instrument), look=last)
    due = asked.due
    state = now(samples, due, last)
    if state is Now.GOING:
        return Heard(verdict=None, look=last)
    if state is Now.NOTHING:
        return Heard(verdict=Verdict(outcome=Outcome.UNSURE, says=NOTHING, code="nothing"), look=last)
    analysis = hear(samples, asked)
    found = _judged(analysis, asked)
    if state is Now.BROKEN:
        return Heard(verdict=broken_off(found), look=last)
    heard_s = len(samples) / RATE_HZ
    look = Look(at_s=heard_s, complete=is_complete(analysis, goes_on=goes_on(samples, due), quarter_s=60.0 / asked.qpm))
    return Heard(verdict=found if look.complete and heard_s >= due.end_s else None, look=look)


def heard_whole(samples: npt.NDArray[np.float32], asked: Asked) -> Verdict:
    """The verdict on an attempt whose end somebody else has found: it was stopped by hand, or comes later from a device."""
    if asked.prompt is not None:
        return tone.found(samples, asked.prompt, asked.instrument) or tone.NOTHING_FOUND
    if now(samples, replace(asked.due, end_s=1e9), None) is Now.NOTHING:
        return Verdict(outcome=Outcome.UNSURE, says=NOTHING, code="nothing")
    analysis = hear(samples, asked)
    found = _judged(analysis, asked)
    return found if is_complete(analysis) or analysis.evidence is None else broken_off(found)


def hear(samples: npt.NDArray[np.float32], asked: Asked) -> Analysis:
    """The ear on an attempt, without its count-off."""
    due = asked.due
    first = int(max(0.0, due.start_s - min(EARLY_S, EARLY_BEATS * due.beat_s)) * RATE_HZ)
    targets = replace(
        asked.targets,
        tempo_qpm=asked.qpm,
        tempo_to_qpm=None,
        stage=STAGES[asked.counts],
        band_percent=None,
        count_off=0,
        clicks_s=(),
        late_s=None,
        ritardando_quarters=0.0,
        bars=None,
        order=None,
        staff=None,
    )
    return analyse(Recording(samples=np.array(samples[first:], dtype=np.float32)), asked.music, targets)


def _judged(analysis: Analysis, asked: Asked) -> Verdict:
    found = asked.reads(analysis, 60.0 / asked.qpm) if asked.reads else verdict(analysis, asked.counts, asked.leave_out)
    found = _with_cause(found, analysis, asked.part)
    # Places are told in the time of the attempt's whole sound.
    due = asked.due
    first_s = max(0.0, due.start_s - min(EARLY_S, EARLY_BEATS * due.beat_s))
    return replace(
        found,
        start_s=None if found.start_s is None else max(0.0, found.start_s + first_s),
        end_s=None if found.end_s is None else found.end_s + first_s,
    )


def _with_cause(found: Verdict, analysis: Analysis, part: Part | None) -> Verdict:
    """The likely cause of the note that the verdict tells, from the score; of another place none is told."""
    if part is None or not found.at_fault or not found.code.startswith("notes."):
        return found
    cause = next((c for c in causes_of(result_of(analysis), part) if found.at_fault[0] in c.note_ids), None)
    return found if cause is None else replace(found, cause=cause.says)
