"""The takes of ``bench/accuracy`` (``scenarios`` says which), made once and kept.

Rendered takes are kept in the state folder by what made them, since rendering takes longer than hearing.
"""

from __future__ import annotations

import hashlib
import json
import os
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import melodies
import numpy as np
import soxr
from planted import Scenario, planted
from scenarios import BESIDES, DELAY_S, FIT, HELD_OUT, Set, scenarios, training

from didactor.core.instruments import BY_SLUG, Instrument
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from didactor.core.sound.backing import Backing
from didactor.core.sound.player.expression import KINDS, drawn
from didactor.core.sound.player.performance import BEGINNER, VIRTUOSO, Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ

__all__ = ["BESIDES", "FIT", "HELD_OUT", "Scenario", "Set", "Take", "scenarios", "take", "training"]

ROOT = Path(__file__).resolve().parent.parent
CACHE = Path(os.environ.get("DIDACTOR_STATE", ROOT / "var")) / "bench"

TWO_HANDS = ("piano", "harp")
TEMPI = (60.0, 72.0, 84.0, 96.0, 112.0, 126.0)
VIBRATO = ("violin", "cello", "flute", "voice")


@dataclass(frozen=True, kw_only=True, eq=False)
class Take:
    scenario: Scenario
    samples: np.ndarray
    truth: dict[str, Any]
    expectation: Expectation
    targets: Targets
    backing: Backing | None = None


PLAYED_AS = {"chords": "strum", "clapped": "clap", "said": "say"}


def take(scenario: Scenario) -> Take:
    """Render a take, or fetch it from the cache."""
    instrument = BY_SLUG[scenario.instrument]
    rng = np.random.default_rng(scenario.seed)
    expectation = _music(scenario, instrument)
    tempo = float(rng.choice(TEMPI))
    count_off = 4 if scenario.faults == "entry" or scenario.condition.endswith("counted") else 0
    count_off = 0 if scenario.condition.endswith("along") else count_off
    style = _style(scenario, instrument, rng)
    faults = planted(scenario, expectation, tempo, rng)
    degradations = [dict(d) for d in scenario.degradations]
    for step in degradations:
        if step["kind"] == "click":
            step.update(bpm=tempo / expectation.bars[0].beat_quarters, start_s=0.2)
    made_of = repr((scenario.voices, scenario.source, scenario.room, scenario.seed, tempo, style, faults, degradations, expectation))
    path = CACHE / f"{hashlib.sha256((made_of + _player(bool(faults))).encode()).hexdigest()[:32]}.npz"
    if path.exists():
        with np.load(path, allow_pickle=False) as kept:
            samples, truth = kept["samples"].astype(np.float32) / 32767, json.loads(str(kept["truth"]))
            track = kept["track"].astype(np.float32) / 32767 if "track" in kept else np.zeros(0, dtype=np.float32)
    else:
        for step in degradations:
            if step["kind"] == "backing":
                step["samples"] = _singing(scenario, tempo) if step.get("voice") else _accompaniment(scenario, tempo, step)
        made = simulate(
            expectation,
            instrument,
            tempo,
            faults=faults,
            style=style,
            source=scenario.source,
            room=scenario.room,
            seed=scenario.seed,
            manner=PLAYED_AS.get(scenario.voices, "play"),
            count_off=count_off,
            degradations=degradations,
        )
        truth = made.truth
        samples = np.clip(soxr.resample(made.samples, SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32)
        CACHE.mkdir(parents=True, exist_ok=True)
        track = _known_track(degradations)
        written = {"samples": np.round(samples * 32767).astype(np.int16), "truth": np.array(json.dumps(truth))}
        np.savez(path, **written, **({"track": np.round(track * 32767).astype(np.int16)} if len(track) else {}))
        samples = np.round(samples * 32767).astype(np.int16).astype(np.float32) / 32767
    return Take(
        scenario=scenario,
        samples=samples,
        truth=truth,
        expectation=expectation,
        targets=_targets(scenario, tempo, count_off, truth),
        backing=Backing(samples=track, enters_s=_enters_s(scenario, expectation, truth, tempo)) if len(track) else None,
    )


def _known_track(degradations: list[dict[str, Any]]) -> np.ndarray:
    """What a recorder would have played through the loudspeaker; empty where nothing of that kind was."""
    for step in degradations:
        if step["kind"] == "backing" and "through" in step:
            return np.clip(soxr.resample(step["samples"], SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32)
    return np.zeros(0, dtype=np.float32)


def _enters_s(scenario: Scenario, expectation: Expectation, truth: dict[str, Any], tempo: float) -> float | None:
    """When in the track the passage begins: where the faultless first note came, less what the loudspeaker takes."""
    if scenario.voices != "entries":
        return None
    late = sum(f["beats"] for f in truth["faults"] if f["kind"] == "entry")
    return truth["notes"][0]["onset_s"] - DELAY_S - (late + expectation.notes[0].onset_quarters) * 60 / tempo


def _targets(scenario: Scenario, tempo: float, count_off: int, truth: dict[str, Any]) -> Targets:
    step = {"clapped": "clap", "chords": "chords", "pulse": "pulse", "said": "say"}.get(scenario.voices, "play")
    clicks = tuple(truth["clicks_s"]) if count_off and scenario.voices != "entries" else ()
    return Targets(tempo_qpm=tempo, instrument=scenario.instrument, step=step, count_off=count_off, clicks_s=clicks)


def _music(scenario: Scenario, instrument: Instrument) -> Expectation:
    if scenario.voices.startswith("many"):
        if scenario.instrument in TWO_HANDS:
            return melodies.two_hands(scenario.seed, manner=scenario.manner)
        return melodies.guitar_parts(scenario.seed, manner=scenario.manner, low=instrument.low)
    if scenario.voices == "chords":
        return melodies.chart(scenario.seed, instrument)
    if scenario.voices == "strokes":
        return melodies.strokes(scenario.seed, manner=scenario.manner)
    seed, bars = scenario.seed, 12
    expectation = melodies.melody(instrument, seed, bars, scenario.manner)
    while scenario.faults == "repeat" and not any(b.pass_ > 1 for b in expectation.bars):
        seed += 1_000_000
        expectation = melodies.melody(instrument, seed, bars, "motifs")
    return expectation


def _singing(scenario: Scenario, tempo: float) -> np.ndarray:
    voice = BY_SLUG["voice"]
    line = melodies.melody(voice, scenario.seed + 77, 8, scenario.manner)
    sung = simulate(line, voice, tempo, style=Style(vibrato_cents=20), source=scenario.source, room=scenario.room, seed=scenario.seed + 78)
    return sung.samples


def _accompaniment(scenario: Scenario, tempo: float, step: dict[str, Any]) -> np.ndarray:
    piano = BY_SLUG["piano"]
    hands = melodies.two_hands(scenario.seed + 79, manner=scenario.manner)
    room = "dry" if "through" in step else scenario.room
    return simulate(hands, piano, tempo, source=scenario.source, room=room, seed=scenario.seed + 80).samples


def _style(scenario: Scenario, instrument: Instrument, rng: np.random.Generator) -> Style:
    if scenario.style == "beginner":
        return BEGINNER
    if scenario.style == "virtuoso":
        return VIRTUOSO
    if scenario.style in KINDS:
        return Style(scatter_ms=float(rng.uniform(5, 12)), wander_percent=1.0, chord_spread_ms=14.0, expression=drawn(scenario.style, rng))
    if scenario.voices == "said":
        # Speech is looser than playing.
        return Style(scatter_ms=float(rng.uniform(15, 40)), wander_percent=float(rng.uniform(0.5, 2.0)))
    return Style(
        scatter_ms=float(rng.uniform(5, 14)),
        wander_percent=float(rng.uniform(0.5, 1.5)),
        tuning_cents=float(rng.uniform(-12, 12)),
        vibrato_cents=float(rng.uniform(6, 16)) if instrument.slug in VIBRATO else 0.0,
    )


@cache
def _player(with_faults: bool) -> str:
    """The code that decides how a performance sounds."""
    files = sorted((ROOT / "didactor/core/sound/player").rglob("*.py"))
    files = [f for f in files if with_faults or f.parent.name != "faults"]
    return hashlib.sha256(b"".join(f.read_bytes() for f in files)).hexdigest()
