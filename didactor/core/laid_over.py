"""A teacher's recording laid over the score: when in it each moment of the passage is played.

Nothing is judged here. The ear hears the recording at whatever tempo it is, and only what it is sure of holds: moments at which a right
note begins. Between them the score is followed evenly; where bars go by without one, or the recording is of something else, it is refused,
since a line that runs beside the music is worse than none.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from didactor.core.errors import AudioError
from didactor.core.hearing.hearing import Hearing, Status
from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.sound.recording import Recording
from didactor.core.steps.registry import ear_of
from didactor.core.words import worded

#: Nobody says at which tempo a teacher plays: shares of the passage's own at which it is heard.
TEMPI = (1.0, 0.7, 1.4, 0.5)
#: At least so many of the passage's moments are found, and of what sounds so much belongs to it.
LEAST_MOMENTS, LEAST_OF_SOUNDS = 0.55, 0.25
#: Found in the first trial, the others need not be made.
PLENTY = 0.93
#: Longest stretch without a moment, in bars.
LONGEST_GAP_BARS = 2.0
#: Tempo between two moments against the whole: beyond that one of them is wrong.
FASTEST, SLOWEST = 2.6, 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class Laid:
    """Moments of the passage in a recording: (quarters from the passage's start, seconds of the recording), both ascending.

    The first is the passage's start and the last its end, carried on where no note stands there. ``tempo_qpm``: the usual tempo.
    """

    anchors: tuple[tuple[float, float], ...]
    tempo_qpm: float

    def second_of(self, quarters: float) -> float:
        """When a place of the score is played."""
        at, seconds = zip(*self.anchors, strict=True)
        return float(np.interp(quarters, at, seconds))


def lay_over(recording: Recording, expectation: Expectation, instrument: Instrument, tempo_qpm: float) -> Laid:
    """Where in a recording the passage is.

    Args:
        recording: the passage played once, with or without talk or an introduction before it.
        expectation: notes in performed order.
        tempo_qpm: a guess; half of it to one and a half times of it are found.

    Raises:
        AudioError: the recording does not fit the notes; the words say so.
    """
    listen = ear_of("play").listen(expectation, instrument)
    best: tuple[float, tuple[tuple[float, float], ...]] = (0.0, ())
    for share in TEMPI:
        hearing = listen(recording.samples, expectation, 60.0 / (tempo_qpm * share), instrument)
        if hearing is None or hearing.share_of_sounds < LEAST_OF_SOUNDS:
            continue
        moments = _moments(hearing, expectation)
        found = len(moments) / max(1, len({n.onset_quarters for n in expectation.notes if not n.grace}))
        best = max(best, (found, moments), key=lambda b: b[0])
        if found >= PLENTY:
            break
    share, moments = best
    if share < LEAST_MOMENTS or not _without_holes(moments, expectation):
        raise AudioError(
            "audio.does_not_fit", worded("This recording does not follow the written notes closely enough to be laid over them.")
        )
    return _whole(moments, expectation)


def _moments(hearing: Hearing, expectation: Expectation) -> tuple[tuple[float, float], ...]:
    """Times of the moments at which right notes begin, of the stretch that holds most of them: what is played twice counts once.

    Onsets that are too soft to carry a pulse are taken where no clear one is near.
    """
    clear: dict[int, dict[float, list[float]]] = {}
    soft: dict[int, dict[float, list[float]]] = {}
    for written, heard in zip(expectation.notes, hearing.notes, strict=True):
        if heard.onset_s is None or heard.status != Status.CORRECT or written.grace:
            continue
        (clear if heard.timed else soft).setdefault(heard.stretch, {}).setdefault(written.onset_quarters, []).append(heard.onset_s)
    if not clear:
        return ()
    stretch = max(clear, key=lambda s: len(clear[s]))
    found = clear[stretch]
    beat = expectation.bars[0].beat_quarters
    far = {at: times for at, times in soft.get(stretch, {}).items() if all(abs(at - near) > beat for near in found)}
    return _plausible([(quarters, float(np.median(times))) for quarters, times in sorted({**found, **far}.items())])


def _plausible(moments: list[tuple[float, float]]) -> tuple[tuple[float, float], ...]:
    """Without those that nobody could have played between their neighbours."""
    if len(moments) < 3:
        return ()
    quarters, seconds = np.array(moments).T
    pace = float(np.median(np.diff(seconds) / np.diff(quarters)))
    kept: list[tuple[float, float]] = []
    for at, time_s in moments:
        while kept:
            took, usual = time_s - kept[-1][1], (at - kept[-1][0]) * pace
            if took > 0 and usual / FASTEST <= took <= usual / SLOWEST:
                break
            # Of two that contradict each other the one goes that lies further from the usual pace of the last few.
            if len(kept) < 2 or took > 0:
                break
            kept.pop()
        if not kept or time_s > kept[-1][1]:
            kept.append((at, time_s))
    return tuple(kept)


def _without_holes(moments: tuple[tuple[float, float], ...], expectation: Expectation) -> bool:
    """Whether no long stretch with notes in it went by without a moment."""
    at = [quarters for quarters, _ in moments]
    bar = float(np.median([b.length_quarters for b in expectation.bars]))
    written = sorted({n.onset_quarters for n in expectation.notes if not n.grace})
    edges = [written[0], *at, written[-1]]
    return all(
        later - earlier <= LONGEST_GAP_BARS * bar or not any(earlier < w < later for w in written)
        for earlier, later in itertools.pairwise(edges)
    )


def _whole(moments: tuple[tuple[float, float], ...], expectation: Expectation) -> Laid:
    """Carried on to the passage's start and end at the pace next to them."""
    quarters, seconds = np.array(moments).T
    paces = np.diff(seconds) / np.diff(quarters)
    end = max(b.start_quarters + b.length_quarters for b in expectation.bars)
    found = list(moments)
    if quarters[0] > 1e-6:
        found.insert(0, (0.0, max(0.0, float(seconds[0] - quarters[0] * np.median(paces[:4])))))
    if quarters[-1] < end - 1e-6:
        found.append((end, float(seconds[-1] + (end - quarters[-1]) * np.median(paces[-4:]))))
    return Laid(anchors=tuple(found), tempo_qpm=float(60.0 / np.median(paces)))
