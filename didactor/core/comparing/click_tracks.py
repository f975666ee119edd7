"""Clicks to lay under a take when it is heard again: on the player's own beat, and on the beat that was asked for."""

from __future__ import annotations

from didactor.core.formats.result import Result
from didactor.core.score.expected import Expectation

#: When, in seconds of the recording, and whether a bar begins there.
Clicks = list[tuple[float, bool]]


def click_tracks(result: Result, music: Expectation) -> dict[str, Clicks]:
    """``own``: the beats of the tempo as it was heard; ``target``: those of the tempo asked for, from the take's first beat on.

    Empty where no pulse was heard.
    """
    curve = result.tempo.curve if result.tempo else ()
    upbeat = (music.bars[0].number, music.bars[0].pass_) if music.pickup_quarters else None
    starts = {(bar.number, bar.pass_): bar.start_quarters for bar in music.bars}
    beats = [
        (starts[p.bar, p.pass_] + p.beat, p.time_s, p.beat < 1e-6 and (p.bar, p.pass_) != upbeat)
        for p in curve
        if (p.bar, p.pass_) in starts
    ]
    if len(beats) < 2:
        return {}
    first, begins, _ = beats[0]
    quarter_s = 60.0 / result.targets.tempo_qpm
    return {
        "own": [(round(at_s, 3), strong) for _, at_s, strong in beats],
        "target": [(round(begins + (quarters - first) * quarter_s, 3), strong) for quarters, _, strong in beats],
    }
