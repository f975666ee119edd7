"""Goes at drills: two chords or two notes in turn, one thing to find, the strings of a chord, names said. Is what was planted told?"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from melodies import chart, part

from didactor.core.instruments import BY_SLUG, Instrument
from didactor.core.judging.targets import Targets
from didactor.core.practising.attempt import Asked, heard_whole
from didactor.core.practising.drills.drill import Drill, Material
from didactor.core.practising.drills.registry import kind_of
from didactor.core.practising.verdict import Verdict
from didactor.core.score.chords import chord_pitch_classes
from didactor.core.score.expected import Expectation, ExpectedChord, expect
from didactor.core.sound.player.take import simulate
from practising.common import INSTRUMENTS, ROOMS, SOURCES, recording

COUNT = 240
CHORDS = ("C", "G", "D", "A", "E", "F", "Am", "Em", "Dm", "G7")
STRUMMED = ("guitar", "ukulele", "guitar")
KINDS = ("chords", "two_notes", "find", "strings", "say_names")
LATE_MS = (350, 500)


def drill_case(base: int, number: int) -> tuple[str, str, str, bool, str]:
    """Kind, what was planted, the outcome, whether what was told is what was planted, and a line about it."""
    rng = np.random.default_rng((base, 7, number))
    kind = KINDS[number % len(KINDS)]
    slug = STRUMMED[number % 3] if kind in ("chords", "strings") else INSTRUMENTS[number % len(INSTRUMENTS)]
    instrument, tempo = BY_SLUG[slug], float(rng.choice([54.0, 63.0, 72.0, 84.0]))
    material = _chords(rng, instrument) if kind in ("chords", "strings") else _line(rng, instrument)
    offered = kind_of(kind).offers(material)  # type: ignore[union-attr]
    drill = offered[int(rng.integers(len(offered)))]
    planted = ("clean", "wrong", "clean", "late")[(number // len(KINDS)) % 4]
    if kind == "find":
        return _find(rng, drill, instrument, "clean" if planted in ("clean", "late") else "wrong", base + number)
    if kind == "strings":
        planted = "clean" if planted == "clean" else "silent"
    if kind == "say_names":
        planted = "clean" if planted == "clean" else "late"
    faults, music, at = _planted(rng, drill, planted)
    manner = {"chords": "strum", "say_names": "say"}.get(kind, "play")
    take = simulate(
        music, instrument, tempo, faults=faults, source=SOURCES[number // 5 % 2], room=ROOMS[number % 3], seed=base + number, manner=manner
    )
    start_s = take.truth["notes"][0]["onset_s"]
    found = _heard(drill, recording(take.samples).samples, slug, tempo, start_s)
    right = _is_told(kind, planted, found, at)
    outcome = found.outcome.value
    if planted == "silent" and not right and next(c.right for c in found.changes if c.after == at) is None:
        outcome = "unsure"  # of this string it said that it could not be told
    line = f"{number} {slug} {drill.title} {planted} {at} at {tempo:g}: {found.outcome.value} {found.says}"
    return kind, planted, outcome, right, line


def _heard(drill: Drill, samples: Any, slug: str, tempo: float, start_s: float) -> Verdict:
    kind = kind_of(drill.kind)
    assert kind is not None and kind.reads is not None
    reads = kind.reads
    about = Asked(
        music=drill.music,
        targets=Targets(tempo_qpm=tempo, instrument=slug, step=drill.step),
        qpm=tempo,
        start_s=start_s,
        reads=lambda analysis, quarter_s: reads(drill, analysis, quarter_s),
    )
    return heard_whole(samples, about)


def _line(rng: np.random.Generator, instrument: Instrument) -> Material:
    own = part(instrument, int(rng.integers(1 << 30)), 6, "motifs")
    music = expect(own)
    return Material(part=own, music=music, instrument=instrument, names={n.id: n.written_pitch[:-1] for n in music.notes})


def _chords(rng: np.random.Generator, instrument: Instrument) -> Material:
    music = chart(int(rng.integers(1 << 30)), instrument, 4)
    picked = [str(c) for c in rng.permutation(CHORDS)[:3]]
    chords = tuple(
        ExpectedChord(onset_quarters=4.0 * k, text=text, pitch_classes=tuple(chord_pitch_classes(text))) for k, text in enumerate(picked)
    )
    own = part(BY_SLUG["flute"], 1, 4)
    return Material(part=own, music=replace(music, chords=chords), instrument=instrument, step="chords")


def _planted(rng: np.random.Generator, drill: Drill, planted: str) -> tuple[list[dict[str, Any]], Expectation, str]:
    """Faults for the player, the music it plays, and where they are in words."""
    music, count = drill.music, len(drill.music.notes)
    if drill.kind == "strings":
        if planted == "clean":
            return [], music, ""
        string = str(rng.choice(sorted({n.id for n in music.notes})))
        return [{"kind": "missed", "note": k} for k, n in enumerate(music.notes) if n.id == string], music, string
    if planted == "wrong":
        k = int(rng.integers(1, count))
        if drill.kind == "chords":
            own = {c.text for c in music.chords}
            other = str(rng.choice([c for c in CHORDS if c[:1] not in {o[:1] for o in own}]))
            return [{"kind": "chord", "note": k, "chord": other}], music, f"{other} at {k}"
        return [{"kind": "wrong", "note": k, "semitones": int(rng.choice([-3, -2, 2, 3]))}], music, str(k)
    if planted == "late":
        ms = int(rng.integers(*LATE_MS))
        if drill.kind == "say_names":
            return [{"kind": "hesitation", "note": count // 2, "beats": 1.0}], music, str(count // 2)
        # All changes in one direction.
        first = 1 + int(rng.integers(2))
        return (
            [{"kind": "late", "note": k, "ms": ms} for k in range(first, count, 2)],
            music,
            f"{'to the second' if first == 1 else 'to the first'} {ms}",
        )
    return [], music, ""


def _find(rng: np.random.Generator, drill: Drill, instrument: Instrument, planted: str, seed: int) -> tuple[str, str, str, bool, str]:
    prompt = drill.prompts[int(rng.integers(len(drill.prompts)))]
    midi = prompt.midi
    if planted == "wrong":
        midi += int(rng.choice([-12, -2, -1, 1, 2, 12]))
        midi = min(instrument.high, max(instrument.low, midi))
        planted = "clean" if midi == prompt.midi else "wrong"
    note = replace(
        expect(part(instrument, 1, 1)).notes[0],
        sounding_midi=midi,
        onset_quarters=0.0,
        duration_quarters=1.5,
        articulations=(),
        grace=False,
    )
    one = expect(part(instrument, 1, 1))
    take = simulate(replace(one, notes=(note,)), instrument, 60.0, source=SOURCES[seed % 2], room=ROOMS[seed % 3], seed=seed)
    about = Asked(music=drill.music, targets=Targets(tempo_qpm=60, instrument=instrument.slug), qpm=60, start_s=0.0, prompt=prompt)
    found = heard_whole(recording(take.samples).samples, about)
    right = found.outcome.value == ("clean" if planted == "clean" else "fault")
    return (
        "find",
        planted,
        found.outcome.value,
        right,
        f"{seed} {instrument.slug} asked {prompt.midi} played {midi}: {found.outcome.value} {found.says}",
    )


def _is_told(kind: str, planted: str, found: Verdict, at: str) -> bool:
    if planted == "clean":
        return found.outcome.value == "clean"
    if kind == "strings":
        return [c.after for c in found.changes if c.right is False] == [at]
    wanted = {"wrong": ("change.wrong",), "late": ("change.late", "names.late")}[planted]
    return found.code in wanted


def drills(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    found = each(drill_case, [(base, k) for k in range(COUNT)])
    rows = ["| drill | planted | goes | told so | told otherwise | not told |", "|---|---|---|---|---|---|"]
    count = Counter(
        (kind, planted, "right" if right else "not told" if outcome == "unsure" else "other") for kind, planted, outcome, right, _ in found
    )
    for kind in KINDS:
        for planted in ("clean", "wrong", "late", "silent"):
            told = [count[kind, planted, how] for how in ("right", "other", "not told")]
            if sum(told):
                rows.append(f"| {kind.replace('_', ' ')} | {planted} | {sum(told)} | {' | '.join(map(str, told))} |")
    clean = [f for f in found if f[1] == "clean"]
    faulty = [f for f in found if f[1] != "clean" and f[0] != "strings"]
    strings = [f for f in found if f[1] == "silent"]
    figures = {
        "drills_good_refused_percent": round(100 * sum(f[2] == "fault" for f in clean) / len(clean), 1),
        "drills_faults_told_percent": round(100 * sum(f[3] for f in faulty) / len(faulty), 1),
        "drills_faulty_accepted_percent": round(100 * sum(f[2] == "clean" for f in faulty) / len(faulty), 1),
        "silent_strings_told_percent": round(100 * sum(f[3] for f in strings) / len(strings), 1),
        "silent_strings_called_sounding": sum(not f[3] and f[2] != "unsure" for f in strings),
    }
    return rows, figures, [f[4] for f in found if not f[3]]
