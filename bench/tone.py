"""Tone against another take of the same passage: is what is planted told, and nothing of what is not?

    bench/tone              160 takes with one thing planted, 100 without; some six minutes of two cores
    bench/tone --count 40   fewer
    bench/tone --write      also refreshes its part of docs/benchmarks.md

Each pair is one player in one room, on two days. Planted in the later take: a weak first note (8 to 12 dB), long notes that swell or fade
(5 to 9 dB a second), noise in long notes (10 to 16 dB below the tone), pitch that sinks (18 to 30 cents a second), and on the piano the
upper notes of chords softer (4 to 6 dB). Clean pairs are of other instruments, sources and rooms. All go through the ear. The last line is
one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
from pathlib import Path
from typing import Any

os.environ.setdefault("OMP_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from report import close  # noqa: E402
from scipy.signal import butter, sosfilt  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.formats.analysis_json import result_of  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.score.expected import Expectation, expect  # noqa: E402
from didactor.core.score.read.musicxml import prepare, read  # noqa: E402
from didactor.core.score.write.as_musicxml import Line, write_musicxml  # noqa: E402
from didactor.core.sound.player.performance import Style  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.player.take import simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402
from didactor.core.tone.compare import compare  # noqa: E402
from didactor.core.tone.measure import tone_of  # noqa: E402

PLANTED = {
    "none": "",
    "first": "tone.first",
    "level": "tone.swells",
    "noise": "tone.noise",
    "pitch": "tone.moves",
    "voicing": "tone.voicing",
}
FIT = ("flute", "clarinet", "trumpet", "violin", "alto-saxophone")
HELD_OUT = ("oboe", "cello", "trombone", "horn", "viola")
ROOMS = ("dry", "bedroom", "kitchen", "classroom")
SOURCES = ("timgm", "fluid", "additive")
TEMPO = 72.0
BARS = ("w", "h h", "q q h", "h q q", "q q q q")


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=260)
    parser.add_argument("--base", type=int, default=0)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with multiprocessing.Pool(os.cpu_count()) as pool:
        found = pool.map(_case, [(options.base, k) for k in range(options.count)], chunksize=4)
    rows = ["| planted | takes | told | something else told |", "|---|---|---|---|"]
    for kind, code in PLANTED.items():
        own = [codes for planted, codes, _ in found if planted == kind]
        rows.append(f"| {kind} | {len(own)} | {sum(code in codes for codes in own)} | {sum(c != code for codes in own for c in codes)} |")
    said = [(PLANTED[kind], code) for kind, codes, _ in found for code in codes]
    clean = [codes for kind, codes, _ in found if kind == "none"]
    planted = [(PLANTED[kind], codes) for kind, codes, _ in found if kind != "none"]
    figures = {
        "precision_percent": round(100 * sum(a == b for a, b in said) / max(1, len(said)), 1),
        "recall_percent": round(100 * sum(code in codes for code, codes in planted) / max(1, len(planted)), 1),
        "false_in_50_clean": round(50 * sum(map(bool, clean)) / max(1, len(clean)), 2),
    }
    for kind, codes, line in found:
        if any(code != PLANTED[kind] for code in codes) or (kind != "none" and PLANTED[kind] not in codes):
            print(line, file=sys.stderr)
    return close("tone", "\n".join(rows), figures, write=options.write)


def _case(job: tuple[int, int]) -> tuple[str, list[str], str]:
    base, number = job
    rng = np.random.default_rng((base, number))
    kind = ("none", "first", "level", "noise", "pitch", "voicing", "none")[number % 7]
    chords = kind == "voicing" or (kind == "none" and number % 3 == 0)
    slug = "piano" if chords else str(rng.choice(HELD_OUT if kind == "none" else FIT))
    music = _music(slug, rng)
    source, room = str(rng.choice(SOURCES)), str(rng.choice(ROOMS))
    style = Style(
        scatter_ms=float(rng.uniform(5, 12)),
        wander_percent=0.8,
        vibrato_cents=float(rng.choice([0, 18])) if slug in ("violin", "cello", "viola", "flute") else 0.0,
    )
    before = _take(music, slug, source, room, style, int(rng.integers(1 << 30)), "none", rng)
    after = _take(music, slug, source, room, style, int(rng.integers(1 << 30)), kind, rng)
    told = compare(after, before, "take 1") if before and after else []
    codes = [remark.code for remark in told]
    return kind, codes, f"{number} {slug} {source} {room} planted {kind}: {[r.says for r in told]}"


def _music(slug: str, rng: np.random.Generator) -> Expectation:
    """Eight to twelve bars with long notes; on the piano thirds, fourths and sixths in one hand."""
    instrument = BY_SLUG[slug]
    scale = ["C", "D", "E", "F", "G", "A", "B"]
    low, high = instrument.range_at("intermediate")
    centre = 60 if slug == "piano" else (low + high) / 2 - 4
    octave = int(centre // 12) - 1
    step, bars = 0, []
    for bar in range(int(rng.integers(8, 13))):
        tokens = []
        for value in ("w" if bar in (1, 4) else str(rng.choice(BARS))).split():
            step = int(np.clip(step + rng.integers(-2, 3), -3, 6))
            names = [step, step + int(rng.choice([2, 3, 5]))] if slug == "piano" else [step]
            tokens.append("+".join(f"{scale[s % 7]}{octave + 1 + s // 7}" for s in names) + f":{value}")
        bars.append(" ".join(tokens))
    part = read(prepare(write_musicxml([Line(text=" | ".join(bars), fifths=0)]))).parts[0]
    return expect(part)


def _take(music: Expectation, slug: str, source: str, room: str, style: Style, seed: int, kind: str, rng: np.random.Generator) -> Any:
    faults = [{"kind": "voicing", "velocity": int(rng.integers(24, 34))}] if kind == "voicing" else []
    made = simulate(music, BY_SLUG[slug], TEMPO, faults=faults, style=style, source=source, room=room, seed=seed)
    sound = np.array(made.samples, dtype=np.float64)
    notes = [n for n in made.truth["notes"] if n.get("onset_s") is not None]
    planted = {"first": _weak_first, "level": _swelling, "noise": _noisy, "pitch": _sinking}.get(kind)
    if planted is not None:
        sound = planted(sound, notes, rng)
    samples = np.clip(soxr.resample(sound.astype(np.float32), SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32)
    result = result_of(analyse(Recording(samples=samples), music, Targets(tempo_qpm=TEMPO, instrument=slug)))
    return tone_of(samples, result, music)


def _span(note: dict[str, Any]) -> tuple[int, int]:
    return int(note["onset_s"] * SYNTH_RATE_HZ), int(note["offset_s"] * SYNTH_RATE_HZ)


def _long(notes: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [n for n in notes if n["offset_s"] - n["onset_s"] > 1.1]


def _weak_first(sound: np.ndarray, notes: list[dict[str, Any]], rng: np.random.Generator) -> np.ndarray:
    end = int(notes[1]["onset_s"] * SYNTH_RATE_HZ)
    fade = int(0.03 * SYNTH_RATE_HZ)
    gain = np.ones(len(sound))
    gain[: end - fade] = 10 ** (-float(rng.uniform(8, 12)) / 20)
    gain[end - fade : end] = np.linspace(gain[0], 1.0, fade)
    return sound * gain


def _swelling(sound: np.ndarray, notes: list[dict[str, Any]], rng: np.random.Generator) -> np.ndarray:
    slope = float(rng.uniform(5, 9) * rng.choice([-1, 1]))
    for note in _long(notes):
        a, b = _span(note)
        seconds = np.arange(b - a) / SYNTH_RATE_HZ
        sound[a:b] *= 10 ** (slope * (seconds - seconds[-1] / 2) / 20)
    return sound


def _noisy(sound: np.ndarray, notes: list[dict[str, Any]], rng: np.random.Generator) -> np.ndarray:
    below, band = float(rng.uniform(10, 16)), butter(2, [300, 6000], "bandpass", fs=SYNTH_RATE_HZ, output="sos")
    for note in _long(notes):
        a, b = _span(note)
        level = np.sqrt(np.mean(sound[a:b] ** 2))
        noise = sosfilt(band, rng.normal(size=b - a))
        sound[a:b] += noise / np.std(noise) * level * 10 ** (-below / 20) * np.hanning(b - a) ** 0.25
    return sound


def _sinking(sound: np.ndarray, notes: list[dict[str, Any]], rng: np.random.Generator) -> np.ndarray:
    """The pitch of long notes sinks: what is played is read more and more slowly there."""
    cents, speed = float(rng.uniform(18, 30)), np.ones(len(sound))
    for note in _long(notes):
        a, b = _span(note)
        speed[a:b] = 2 ** (-cents * np.arange(b - a) / SYNTH_RATE_HZ / 1200)
    return np.interp(np.cumsum(speed), np.arange(len(sound)), sound)


if __name__ == "__main__":
    sys.exit(main())
