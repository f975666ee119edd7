"""Practice in small steps: are attempts judged rightly, is their end recognised, is the kind of fault, and what is a plan worth?

    bench/practice                   all six parts, some ten minutes of two cores
    bench/practice --only kinds      one of them: verdicts, ends, kinds, plan, causes, staircase
    bench/practice --base 7000       other seeds; move on when single cases were looked at
    bench/practice --said            what was not right, one line each
    bench/practice --write           also refreshes its part of docs/benchmarks.md

*verdicts*: 300 simulated attempts at stones of one to four bars, by instrument, room and fault. *ends*: 200 attempts with a count-off,
whole ones, broken off, spoken over, with a page turned, begun again; the sound comes in pieces of a quarter of a second as from a browser.
*causes*: 160 takes with faults of a known cause, or of none.
*kinds*: 200 students with a fault of a known kind practise a stone. *plan*: 1,000 students grow, forget and stay away; against the same
minutes split evenly. The students of the last two are models of our own. Prints its table; the last line is one JSON object.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import statistics
import sys
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date, timedelta
from itertools import pairwise
from pathlib import Path
from typing import Any

os.environ.setdefault("OMP_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import melodies  # noqa: E402
import numpy as np  # noqa: E402
import soxr  # noqa: E402
from melodies import melody, two_hands  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.causes.registry import causes_of  # noqa: E402
from didactor.core.formats.analysis_json import result_of  # noqa: E402
from didactor.core.instruments import BY_SLUG  # noqa: E402
from didactor.core.judging.targets import Targets  # noqa: E402
from didactor.core.planning.days import SLOWS_MIN, StoneNow, new_gain, next_return, plan_day  # noqa: E402
from didactor.core.planning.staircase import LineRead, level_of, next_grade  # noqa: E402
from didactor.core.practising.attempt import Asked, attend  # noqa: E402
from didactor.core.practising.ending import Due, Look  # noqa: E402
from didactor.core.practising.kinds import FaultKind, Place, Try, read_kind  # noqa: E402
from didactor.core.practising.verdict import verdict  # noqa: E402
from didactor.core.score.expected import Expectation, expect  # noqa: E402
from didactor.core.score.model import Part  # noqa: E402
from didactor.core.score.study.hand_moves import hand_moves  # noqa: E402
from didactor.core.score.study.likeness import likenesses  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.player.take import simulate  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402

VERDICTS, ENDS, STUDENTS, PLANS, CAUSES = 300, 200, 200, 1000, 160
INSTRUMENTS = ("flute", "clarinet", "violin", "trumpet", "piano", "guitar", "cello", "alto-saxophone", "piano")
ROOMS = ("bedroom", "kitchen", "classroom")
SOURCES = ("timgm", "additive")
PARTS = ("verdicts", "ends", "kinds", "plan", "causes", "staircase")


def music(rng: np.random.Generator, slug: str, seed: int) -> Expectation:
    bars = int(rng.choice([1, 2, 2, 4]))
    return two_hands(seed, bars=bars) if slug == "piano" else melody(BY_SLUG[slug], seed, bars, "motifs" if seed % 2 else "steps")


def recording(samples: np.ndarray) -> Recording:
    return Recording(samples=np.clip(soxr.resample(samples, SYNTH_RATE_HZ, RATE_HZ), -1, 1).astype(np.float32))


# --- verdicts -------------------------------------------------------------------------------------------------------


def verdict_case(base: int, number: int) -> tuple[str, str, str]:
    """What was planted (``clean``, ``wrong``, ``missed``), what the verdict was, and a line about it."""
    rng = np.random.default_rng((base, number))
    slug = INSTRUMENTS[number % len(INSTRUMENTS)]
    expectation, tempo = music(rng, slug, base + number), float(rng.choice([54.0, 66.0, 80.0, 96.0]))
    kind = ("clean", "wrong", "clean", "missed")[(number // len(INSTRUMENTS)) % 4]
    at = int(rng.integers(len(expectation.notes)))
    faults: list[dict[str, Any]] = []
    if kind == "wrong":
        faults = [{"kind": "wrong", "note": at, "semitones": int(rng.choice([-3, -2, -1, 1, 2, 3]))}]
    elif kind == "missed":
        faults = [{"kind": "missed", "note": at}]
    take = simulate(
        expectation, BY_SLUG[slug], tempo, faults=faults, source=SOURCES[int(rng.integers(2))], room=ROOMS[number % 3], seed=base + number
    )
    found = verdict(analyse(recording(take.samples), expectation, Targets(tempo_qpm=tempo, instrument=slug, stage="steady")), "notes")
    return kind, found.outcome.value, f"{number} {slug}, {len(expectation.notes)} notes, {faults}: {found.outcome.value} {found.says}"


def verdicts(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    found = each(verdict_case, [(base, k) for k in range(VERDICTS)])
    count = Counter((("clean" if kind == "clean" else "faulty"), outcome) for kind, outcome, _ in found)
    clean, faulty = (sum(n for (kind, _), n in count.items() if kind == wanted) for wanted in ("clean", "faulty"))
    figures = {
        "faultless_refused_percent": round(100 * count["clean", "fault"] / clean, 1),
        "faultless_not_told_percent": round(100 * count["clean", "unsure"] / clean, 1),
        "faulty_accepted_percent": round(100 * count["faulty", "clean"] / faulty, 1),
        "faulty_not_told_percent": round(100 * count["faulty", "unsure"] / faulty, 1),
    }
    rows = ["| attempts | | accepted | refused | not told |", "|---|---|---|---|---|"]
    for kind, total in (("clean", clean), ("faulty", faulty)):
        outcomes = " | ".join(str(count[kind, o]) for o in ("clean", "fault", "unsure"))
        rows.append(f"| {'faultless' if kind == 'clean' else 'one wrong or missed note'} | {total} | {outcomes} |")
    wrong = [line for kind, outcome, line in found if (outcome == "clean") != (kind == "clean")]
    return rows, figures, wrong


# --- ends -----------------------------------------------------------------------------------------------------------

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
    found = each(end_case, [(base, k) for k in range(ENDS)])
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


# --- kinds ----------------------------------------------------------------------------------------------------------

KINDS = tuple(FaultKind)
NOTES = tuple(f"n{k}" for k in range(8))


def practised(rng: np.random.Generator, kind: FaultKind) -> FaultKind | None:
    """A student whose fault is of one kind practises until it is named, 18 attempts at most: three at the tempo, three slower, and so
    on in turn, as the crossing leads them. None where nothing was named.
    """
    at = NOTES[int(rng.integers(1, len(NOTES)))]
    fails, clean, slips = float(rng.uniform(0.6, 0.95)), float(rng.uniform(0.0, 0.08)), float(rng.uniform(0.0, 0.03))
    limit = float(rng.uniform(0.78, 0.97))
    place = Place(
        bar="6",
        after_rest=kind is FaultKind.AFTER_REST,
        at_seam=kind is FaultKind.JOIN,
        like="2" if kind is FaultKind.CARRIED_OVER or rng.random() < 0.15 else "",
    )
    tempi = [1.0, 1.0, 1.0, 0.72, 0.72, 0.72, 0.8, 0.9, 1.0, 1.0, 0.72, 0.72, 0.9, 1.0, 1.0, 0.85, 1.0, 1.0]
    # A join is played when both its sides are firm: those attempts were at the tempo, and alone.
    tries = [Try(tempo=100.0) for _ in range(3)] if place.at_seam else []
    carried: list[str] = []
    for tempo in tempi:
        joined = place.at_seam
        bad = {
            FaultKind.EVERY_TEMPO: fails,
            FaultKind.FAST: fails if tempo > limit else clean,
            FaultKind.JOIN: fails,
            FaultKind.AFTER_REST: fails,
            FaultKind.CARRIED_OVER: fails,
        }[kind]
        failed = [note for note in NOTES if rng.random() < (bad if note == at else slips)]
        if kind is FaultKind.CARRIED_OVER and at in failed and rng.random() < 0.85:
            carried.append(at)
        tries.append(Try(tempo=100 * tempo, failed=tuple(failed), joined=joined))
        reading = read_kind(tries, {at: place}, carried)
        if reading is not None and reading.kind is not None:
            return reading.kind
    return None


def kinds(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    rows = ["| fault | students | named rightly | as another | not named |", "|---|---|---|---|---|"]
    right = silent = slower = component = 0
    for k, kind in enumerate(KINDS):
        told = [practised(np.random.default_rng((base, 2, k, i)), kind) for i in range(STUDENTS // len(KINDS))]
        good, nothing = sum(t is kind for t in told), sum(t is None for t in told)
        right, silent = right + good, silent + nothing
        if kind is not FaultKind.FAST:
            component, slower = component + len(told), slower + sum(t is FaultKind.FAST for t in told)
        rows.append(f"| {kind.value.replace('_', ' ')} | {len(told)} | {good} | {len(told) - good - nothing} | {nothing} |")
    figures = {
        "kinds_right_percent": round(100 * right / STUDENTS, 1),
        "kinds_silent_percent": round(100 * silent / STUDENTS, 1),
        "slower_for_a_component_percent": round(100 * slower / component, 1),
    }
    return rows, figures, []


# --- plan -----------------------------------------------------------------------------------------------------------


@dataclass
class Learner:
    """A model of our own: skill of each stone 0 to 1.1, growth that slows within a sitting, forgetting that slows with returns."""

    rng: np.random.Generator
    skill: list[float]
    gain: list[float]
    forgets: float
    stays_away: float
    held: list[int]

    def practise(self, stone: int, minutes: float) -> None:
        noise = float(self.rng.lognormal(0, 0.25))
        self.skill[stone] = min(1.15, self.skill[stone] + noise * SLOWS_MIN * self.gain[stone] * (1 - np.exp(-minutes / SLOWS_MIN)))

    def sleep(self) -> None:
        for k in range(len(self.skill)):
            self.skill[k] *= 1 - self.forgets / (1 + 0.7 * self.held[k])


def learner(seed: tuple[int, ...]) -> Learner:
    rng = np.random.default_rng(seed)
    count = int(rng.integers(4, 9))
    pace = float(rng.lognormal(np.log(0.07), 0.4))
    return Learner(
        rng=rng,
        skill=[float(rng.uniform(0.1, 0.6)) for _ in range(count)],
        gain=[pace * float(rng.lognormal(0, 0.3)) for _ in range(count)],
        forgets=float(rng.uniform(0.01, 0.06)),
        stays_away=float(rng.uniform(0.0, 0.3)),
        held=[0] * count,
    )


#: A stone is played faultlessly three times from here on, and still carries the passage from here on.
FIRM_SKILL, HOLDS_SKILL = 1.0, 0.9
DAYS, A_DAY = 14, 15
BEGUN = date(2026, 3, 2)


@dataclass(frozen=True, kw_only=True)
class Course:
    """``reached``: the day on which all stones held for the first time, None if never; ``holds``: their share on the day itself."""

    reached: int | None
    holds: float
    minutes: float
    over: int
    slowest_s: float


def even_split(who: Learner, away: np.ndarray) -> Course:
    reached, minutes = None, 0.0
    for k in range(DAYS):
        if not away[k]:
            for i in range(len(who.skill)):
                who.practise(i, A_DAY / len(who.skill))
                who.held[i] += who.skill[i] >= FIRM_SKILL
            minutes += A_DAY
        if reached is None and min(who.skill) >= HOLDS_SKILL:
            reached = k
        who.sleep()
    return Course(reached=reached, holds=_holding(who), minutes=minutes, over=0, slowest_s=0.0)


def as_planned(who: Learner, away: np.ndarray) -> Course:
    due = BEGUN + timedelta(days=DAYS)
    stones = [StoneNow(name=str(k), strength=0.0) for k in range(len(who.skill))]
    reached, minutes, over, slowest = None, 0.0, 0, 0.0
    for k in range(DAYS):
        today = BEGUN + timedelta(days=k)
        stones = [replace(s, strength=1.0 if s.firm else min(0.95, who.skill[i])) for i, s in enumerate(stones)]
        begun = time.perf_counter()
        day = plan_day(stones, today, due, A_DAY)
        slowest, over = max(slowest, time.perf_counter() - begun), max(over, day.minutes - A_DAY)
        for portion in () if away[k] else day.portions:
            i = int(portion.name)
            stone, before = stones[i], who.skill[i]
            who.practise(i, portion.minutes)
            minutes += portion.minutes
            if who.skill[i] >= FIRM_SKILL:
                who.held[i] += 1
                stones[i] = replace(stone, firm=True, box=stone.box + 1, due=next_return(today, stone.box))
            else:
                stones[i] = replace(stone, firm=False, gain=new_gain(stone.gain, who.skill[i] - before, portion.minutes), box=0)
        if reached is None and min(who.skill) >= HOLDS_SKILL:
            reached = k
        who.sleep()
    return Course(reached=reached, holds=_holding(who), minutes=minutes, over=over, slowest_s=slowest)


def _holding(who: Learner) -> float:
    return sum(skill >= HOLDS_SKILL for skill in who.skill) / len(who.skill)


def one_student(base: int, number: int) -> tuple[Course, Course]:
    """The same student with a plan and with the minutes split evenly."""
    who = learner((base, 3, number))
    away = np.random.default_rng((base, 4, number)).random(DAYS) < who.stays_away
    return as_planned(who, away), even_split(learner((base, 3, number)), away)


def plan(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    found = each(one_student, [(base, k) for k in range(PLANS)])
    never = DAYS + 1
    day, day_even = ([c.reached if c.reached is not None else never for c in course] for course in zip(*found, strict=True))
    saved = [100 * (1 - p.minutes / e.minutes) for p, e in found if e.minutes]
    reach, reach_even = (100 * sum(d < never for d in days) / PLANS for days in (day, day_even))
    rows = [
        "| | planned | the minutes split evenly |",
        "|---|---|---|",
        f"| students all of whose stones held once, % | {reach:.1f} | {reach_even:.1f} |",
        f"| day of that, median | {statistics.median(day) + 1:.0f} | {statistics.median(day_even) + 1:.0f} |",
        f"| stones that hold on the day, % | {100 * statistics.mean(p.holds for p, _ in found):.1f} "
        f"| {100 * statistics.mean(e.holds for _, e in found):.1f} |",
        "| minutes, median | " + " | ".join(f"{statistics.median(pair[k].minutes for pair in found):.0f}" for k in (0, 1)) + " |",
    ]
    figures = {
        "plan_no_later_percent": round(100 * sum(a <= b for a, b in zip(day, day_even, strict=True)) / PLANS, 1),
        "plan_holds_percent": round(100 * statistics.mean(p.holds for p, _ in found), 1),
        "minutes_saved_median_percent": round(statistics.median(saved), 1),
        "minutes_over": max(p.over for p, _ in found),
        "planning_most_ms": round(1000 * max(p.slowest_s for p, _ in found), 2),
    }
    return rows, figures, []


# --- causes ---------------------------------------------------------------------------------------------------------

#: Planted cause to the instrument it is played on; ``none``: faults at places of no kind.
PLANTED = {
    "trap": "flute",
    "carried_on": "clarinet",
    "after_rest": "trumpet",
    "hand_move": "piano",
    "neighbour_key": "piano",
    "register_change": "clarinet",
    "string_crossing": "violin",
    "none": "violin",
}


def cause_case(base: int, number: int) -> tuple[str, list[str], str]:
    """What was planted, the codes of the causes that were told, and a line about it. A passage that has no such place is another one."""
    planted = list(PLANTED)[number % len(PLANTED)]
    slug = "piano" if planted == "none" and number % 16 > 7 else PLANTED[planted]
    for attempt in range(200):
        rng = np.random.default_rng((base, 5, number, attempt))
        part = _part(slug, int(rng.integers(1 << 30)), rng)
        music = expect(part)
        faults = _planted(planted, part, music, slug, rng)
        if faults:
            break
    else:
        raise SystemExit(f"no passage for {planted}")
    take = simulate(music, BY_SLUG[slug], 76.0, faults=faults, source=SOURCES[number % 2], room=ROOMS[number % 3], seed=base + number)
    result = result_of(analyse(recording(take.samples), music, Targets(tempo_qpm=76.0, instrument=slug)))
    told = [cause.code for cause in causes_of(result, part)]
    return planted, told, f"{number} {slug} planted {planted} at {[f['note'] for f in faults]}, told {told}"


def _part(slug: str, seed: int, rng: np.random.Generator) -> Part:
    instrument = BY_SLUG[slug]
    if slug == "piano":
        return melodies.two_hands_part(seed, bars=12)
    return melodies.part(instrument, seed, 12, "motifs" if rng.random() < 0.6 else "steps")


def _planted(kind: str, part: Part, music: Expectation, slug: str, rng: np.random.Generator) -> list[dict[str, Any]]:
    """Faults at three places of a kind (one for a trap), by index of the note; empty where the passage has too few."""
    index = {note.id: k for k, note in reversed(list(enumerate(music.notes)))}
    written = {note.id: note for note in part.notes}
    if kind == "none":
        at = rng.choice(np.arange(1, len(music.notes)), 3, replace=False)
        return [{"kind": "wrong", "note": int(k), "semitones": int(rng.choice([-4, -3, 3, 4]))} for k in at]
    if kind == "trap":
        for like in likenesses(part):
            for note in (written[i] for i in like.trap if i in written):
                pattern = [n for n in part.notes if n.bar_index == like.pattern and abs(n.onset_quarters - note.onset_quarters) < 1e-6]
                if note.id in index and len(pattern) == 1 and pattern[0].sounding_midi + like.semitones != note.sounding_midi:
                    semitones = pattern[0].sounding_midi + like.semitones - note.sounding_midi
                    return [{"kind": "wrong", "note": index[note.id], "semitones": semitones}]
        return []
    if kind == "carried_on":
        for bar in part.bars[1:]:
            found = []
            for note in (n for n in part.notes if n.bar_index == bar.index and n.id in index):
                before = [n for n in part.notes if n.bar_index == bar.index - 1 and abs(n.onset_quarters - note.onset_quarters) < 1e-6]
                if len(before) == 1 and before[0].sounding_midi != note.sounding_midi:
                    found.append({"kind": "wrong", "note": index[note.id], "semitones": before[0].sounding_midi - note.sounding_midi})
            if len(found) >= 3 and rng.random() < 0.3:
                return found[:3]
        return []
    places = [k for k in sorted({index[i] for i in _places(kind, part, music, slug) if i in index}) if k > 0]
    if len(places) < 3:
        return []
    at = rng.choice(places, 3, replace=False)
    semitones = [-1, 1] if kind == "neighbour_key" else [-4, -3, 3, 4]
    return [{"kind": "wrong", "note": int(k), "semitones": int(rng.choice(semitones))} for k in sorted(at)]


def _places(kind: str, part: Part, music: Expectation, slug: str) -> list[str]:
    """Ids of the notes at which a fault of this kind may be planted."""
    ids = [note.id for note in music.notes if not note.grace]
    if kind == "neighbour_key":
        return ids
    if kind == "hand_move":
        return list(hand_moves(part.notes, BY_SLUG[slug]))
    pairs = list(pairwise(music.notes))
    if kind == "after_rest":
        return [b.id for a, b in pairs if b.onset_quarters - a.onset_quarters - a.duration_quarters >= 0.5]
    if kind == "register_change":
        return [b.id for a, b in pairs if abs(b.sounding_midi - a.sounding_midi) >= 9 or (a.sounding_midi > 68) != (b.sounding_midi > 68)]
    open_strings = (55, 62, 69, 76)
    string = {note.id: sum(note.sounding_midi >= low for low in open_strings) for note in music.notes}
    moves = hand_moves(part.notes, BY_SLUG[slug])
    return [b.id for a, b in pairs if string[a.id] != string[b.id] and b.id not in moves]


def causes(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    found = each(cause_case, [(base, k) for k in range(CAUSES)])
    rows = ["| planted | takes | told | something else told |", "|---|---|---|---|"]
    for planted in PLANTED:
        own = [told for kind, told, _ in found if kind == planted]
        other = sum(code != planted for told in own for code in told)
        rows.append(f"| {planted.replace('_', ' ')} | {len(own)} | {sum(planted in told for told in own)} | {other} |")
    said = [(kind, code) for kind, told, _ in found for code in told]
    figures = {
        "causes_precision_percent": round(100 * sum(kind == code for kind, code in said) / max(1, len(said)), 1),
        "causes_recall_percent": round(100 * sum(kind in told for kind, told, _ in found) / sum(kind != "none" for kind, _, _ in found), 1),
    }
    return rows, figures, [line for kind, told, line in found if any(code != kind for code in told)]


# --- staircase ------------------------------------------------------------------------------------------------------

READERS, LINES, NEAR_GRADES = 1000, 8, 1.5


def staircase(base: int, each: Callable[..., Any]) -> tuple[list[str], dict[str, Any], list[str]]:
    """Readers of a known level, who play four of five lines of their own grade, read eight lines."""
    rng = np.random.default_rng((base, 6))
    near, playable = 0, []
    off = []
    for _ in range(READERS):
        level = float(rng.uniform(1.5, 11.5))
        read: list[LineRead] = []
        for number in range(LINES + 8):
            grade = next_grade(read)
            # Steeper and flatter readers than the rule thinks of.
            chance = 1 / (1 + np.exp(-(np.log(4) + float(rng.uniform(0.8, 1.6)) * (level - grade))))
            read.append(LineRead(grade=grade, playable=bool(rng.random() < chance)))
            if number == LINES - 1:
                off.append(level_of(read) - level)
                near += abs(off[-1]) <= NEAR_GRADES
        playable += [line.playable for line in read[LINES:]]
    figures = {
        "readers_met_percent": round(100 * near / READERS, 1),
        "lines_playable_afterwards_percent": round(100 * statistics.mean(playable), 1),
    }
    rows = [
        "| readers | within a grade and a half after eight lines, % | off, grades (median size) | playable of the next eight, % |",
        "|---|---|---|---|",
        f"| {READERS} | {figures['readers_met_percent']} | {statistics.median(abs(o) for o in off):.2f} "
        f"| {figures['lines_playable_afterwards_percent']} |",
    ]
    return rows, figures, []


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--only", action="append", choices=PARTS)
    parser.add_argument("--base", type=int, default=91_000)
    for flag in ("--write", "--said"):
        parser.add_argument(flag, action="store_true")
    options = parser.parse_args()
    parts = {"verdicts": verdicts, "ends": ends, "kinds": kinds, "plan": plan, "causes": causes, "staircase": staircase}
    tables, figures = [], {}
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        for name in options.only or PARTS:
            rows, found, wrong = parts[name](options.base, lambda do, cases: pool.starmap(do, cases, chunksize=4))
            tables.append(f"*{name.capitalize()}*\n\n" + "\n".join(rows))
            figures |= found
            if options.said:
                print("\n".join(wrong), file=sys.stderr)
    return close("practice", "\n\n".join(tables), figures, write=options.write and not options.only)


if __name__ == "__main__":
    sys.exit(main())
