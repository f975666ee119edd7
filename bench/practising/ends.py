"""Attempts with a count-off: is their end recognised? The sound comes in pieces of a quarter of a second, as from a browser."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.practising.attempt import Asked, attend
from didactor.core.practising.ending import Due, Look
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ
from practising.common import INSTRUMENTS, ROOMS, SOURCES, music, recording

COUNT = 200
MANNERS = ("whole", "whole", "broken off", "spoken over", "page turned", "begun again", "not played")
PIECE_S = 0.25


def end_case(base: int, number: int) -> tuple[str, bool, float, str]:
    """The manner, whether its end was recognised, how long after the last note's due end it was said (sound only), and a line."""
    rng = np.random.default_rng((base, 1, number))
    slug = INSTRUMENTS[number % len(INSTRUMENTS)]
    expectation, tempo = music(rng, slug, base + 5000 + number), float(rng.choice([60.0, 72.0, 88.0]))
    manner = MANNERS[number % len(MANNERS)]
    take = simulate(expectation, BY_SLUG[slug], tempo, source=SOURCES[number % 2], room=ROOMS[number % 3], seed=base + number, count_off=4)
    sound = np.asarray(recording(take.samples).samples).copy()
    beat_s = 60.0 / tempo * expectation.bars[0].beat_quarters
    clicks = take.truth["clicks_s"]
    start_s = clicks[-1] + beat_s - expectation.pickup_quarters * 60.0 / tempo
    due = Due.of(expectation, start_s, tempo)
    rate = RATE_HZ
    end = int(due.end_s * rate)
    middle = int((start_s + 0.5 * (due.end_s - start_s)) * rate)
    silence = np.zeros(6 * rate, dtype=np.float32)
    if manner == "broken off":
        sound = np.concatenate([sound[:middle], silence])
    elif manner == "spoken over":
        sound = np.concatenate([sound, silence])
        _talk(sound, end + int(0.3 * rate), rng)
    elif manner == "page turned":
        sound = np.concatenate([sound, silence])
        at, length = end - int(0.4 * rate), int(0.35 * rate)
        sound[at : at + length] += (0.02 * rng.normal(size=length) * np.hanning(length)).astype(np.float32)
    elif manner == "begun again":
        begin = int((start_s - 0.05) * rate)
        sound = np.concatenate([sound[:middle], silence[: int(0.5 * rate)], sound[begin:], silence])
    elif manner == "not played":
        sound = np.concatenate([sound[: int((start_s - 0.15) * rate)], silence, silence[: 2 * rate]])
    else:
        sound = np.concatenate([sound, silence])
    sound = sound + rng.normal(0, 0.0004, len(sound)).astype(np.float32)
    targets = Targets(tempo_qpm=tempo, instrument=slug, stage="steady")
    said, at_s = _listen(sound, due, expectation, targets)
    wanted = {"broken off": {"broken"}, "not played": {"nothing"}, "begun again": {"complete", "broken"}}.get(manner, {"complete"})
    last_s = due.end_s + (0.5 + (middle - int(start_s * rate)) / rate if manner == "begun again" else 0.0)
    early = said == "complete" and at_s < last_s - 0.35
    return manner, said in wanted and not early, at_s - last_s, f"{number} {slug} {manner}: {said} at {at_s - last_s:+.2f} s"


def _talk(sound: np.ndarray, at: int, rng: np.random.Generator) -> None:
    """Something like talk after the last note: voiced syllables whose pitch moves."""
    for k in range(5):
        length = int(0.16 * RATE_HZ)
        time_s = np.arange(length) / RATE_HZ
        hz = 120 * 2 ** (rng.normal(0, 0.2) + 0.2 * np.sin(2 * np.pi * 3 * time_s))
        phase = 2 * np.pi * np.cumsum(hz) / RATE_HZ
        voice = sum(np.sin(h * phase) / h for h in range(1, 9)) * np.hanning(length)
        begin = at + k * int(0.22 * RATE_HZ)
        sound[begin : begin + length] += (0.05 * voice).astype(np.float32)


def _listen(sound: np.ndarray, due: Due, expectation: Expectation, targets: Targets) -> tuple[str, float]:
    """As the live process does: the sound comes in pieces. Returns what ended it and when."""
    piece = int(PIECE_S * RATE_HZ)
    last: Look | None = None
    about = Asked(music=expectation, targets=targets, qpm=targets.tempo_qpm, start_s=due.start_s)
    for end in range(piece, len(sound) + 1, piece):
        heard = attend(sound[:end], about, last)
        last = heard.look
        if heard.verdict is not None:
            said = {"nothing": "nothing", "flow.broken_off": "broken"}.get(
                heard.verdict.code, "complete" if last and last.complete else "broken"
            )
            return said, end / RATE_HZ
    return "never", len(sound) / RATE_HZ


def ends(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    found = each(end_case, [(base, k) for k in range(COUNT)])
    rows = ["| attempts | | end recognised | after the last note, s (median, p95) |", "|---|---|---|---|"]
    for manner in dict.fromkeys(MANNERS):
        own = [f for f in found if f[0] == manner]
        late = [f[2] for f in own if f[1]] or [float("nan")]
        rows.append(f"| {manner} | {len(own)} | {sum(f[1] for f in own)} | {np.median(late):.2f}, {np.percentile(late, 95):.2f} |")
    whole = [f[2] for f in found if f[0] in ("whole", "page turned") and f[1]]
    figures = {
        "ends_recognised_percent": round(100 * sum(f[1] for f in found) / len(found), 1),
        "end_said_after_p95_s": round(float(np.percentile(whole, 95)), 2),
    }
    return rows, figures, [f[3] for f in found if not f[1]]
