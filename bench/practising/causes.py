"""Takes with faults of a known cause, or of none: is it told?"""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from typing import Any

import melodies
import numpy as np

from didactor.core.analyse import analyse
from didactor.core.causes.registry import causes_of
from didactor.core.formats.analysis_json import result_of
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.practising.keeps_failing import Tried, causes_in_practice
from didactor.core.score.expected import Expectation, expect
from didactor.core.score.model import Part
from didactor.core.score.study.hand_moves import hand_moves
from didactor.core.score.study.likeness import likenesses
from didactor.core.sound.player.take import simulate
from practising.common import ROOMS, SOURCES, recording

COUNT = 160
#: At every stone, in the practice that goes with a take.
ATTEMPTS = 5
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


def cause_case(base: int, number: int) -> tuple[str, list[str], list[str], str]:
    """What was planted, the codes of the causes that were told of a take and of a practice, and a line about it. A passage that has no
    such place is another one.
    """
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
    practised = [
        cause.code for cause in causes_in_practice(part, music, _tries(music, faults, rng), Targets(tempo_qpm=76.0, instrument=slug))
    ]
    line = f"{number} {slug} planted {planted} at {[f['note'] for f in faults]}, told {told}, in practice {practised}"
    return planted, told, practised, line


def _tries(music: Expectation, faults: list[dict[str, Any]], rng: np.random.Generator) -> list[Tried]:
    """Five attempts at every two bars: a planted note fails in four of five, any other now and then, by whatever sounds instead."""
    planted = {music.notes[f["note"]].id: music.notes[f["note"]].sounding_midi + f["semitones"] for f in faults}
    bars = [bar.number for bar in music.bars]
    tries = []
    for first in range(0, len(bars), 2):
        notes = [note for note in music.notes if note.bar in bars[first : first + 2]]
        for _ in range(ATTEMPTS):
            failed = {
                n.id: planted.get(n.id, n.sounding_midi + int(rng.choice([-2, 1, 3])))
                for n in notes
                if rng.random() < (0.8 if n.id in planted else 0.02)
            }
            tries.append(Tried(played=frozenset(n.id for n in notes), at_fault=failed))
    return tries


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
    found = each(cause_case, [(base, k) for k in range(COUNT)])
    rows = ["| planted | takes | told | something else told | told in practice | something else |", "|---|---|---|---|---|---|"]
    takes, practice = [(k, told) for k, told, _, _ in found], [(k, told) for k, _, told, _ in found]
    for planted in PLANTED:
        cells = [sum(k == planted for k, _ in takes)]
        for told in (takes, practice):
            own = [codes for k, codes in told if k == planted]
            cells += [sum(planted in codes for codes in own), sum(code != planted for codes in own for code in codes)]
        rows.append(f"| {planted.replace('_', ' ')} | " + " | ".join(map(str, cells)) + " |")
    figures = {**_figures("causes", takes), **_figures("causes_in_practice", practice)}
    return rows, figures, [line for kind, told, practised, line in found if any(code != kind for code in [*told, *practised])]


def _figures(name: str, told: list[tuple[str, list[str]]]) -> dict[str, Any]:
    said = [(kind, code) for kind, codes in told for code in codes]
    return {
        f"{name}_precision_percent": round(100 * sum(kind == code for kind, code in said) / max(1, len(said)), 1),
        f"{name}_recall_percent": round(100 * sum(kind in codes for kind, codes in told) / sum(kind != "none" for kind, _ in told), 1),
    }
