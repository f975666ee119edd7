"""What one take's tone is beside another's of the same passage, in words: only what is plainly more than chance, and nothing in doubt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from didactor.core.tone.measure import Balance, LongNote, Tone
from didactor.core.words import _, counted, worded

#: From so many notes on, of which this share go the same way.
FEWEST, SHARE = 2, 0.75
#: How much has to lie between the takes, in the median: level a second, its wobble, cents a second, noise.
SWELLS_DB, WOBBLES_DB, MOVES_CENTS, NOISE_DB = 3.0, 1.2, 10.0, 6.0
#: Noise that is not so far above the room's own is the room's.
ABOVE_ROOM_DB = 8.0
#: The first note is weak, beside the next ones; and so much weaker than it was in the other take.
WEAK_DB, WEAKER_DB = -6.0, -4.0
#: From here on a first note is as strong as the others.
AS_STRONG_DB = -1.5
#: The balance of chords: from so many on, from so much, and so far outside what they scatter by.
CHORDS, VOICED_DB, STANDARD_ERRORS = 8, 3.0, 3.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Remark:
    """``says`` in words; ``start_s`` and ``end_s`` where it can be heard best."""

    code: str
    says: str
    start_s: float
    end_s: float
    bars: tuple[str, ...] = ()


def compare(own: Tone, other: Tone, name: str) -> list[Remark]:
    """What is different in ``own``, in words that name the other take (“take 2”)."""
    return [*_first(own, other, name), *_long_notes(own, other, name), *voicing(own, other, name)]


def _first(own: Tone, other: Tone, name: str) -> list[Remark]:
    if own.first_db is None or own.first_s is None or own.first_db > WEAK_DB:
        return []
    if other.first_db is None or own.first_db - other.first_db > WEAKER_DB:
        return []
    values = {"weaker": -own.first_db, "name": name}
    says = (
        worded(
            "The first note is {weaker:.0f} dB weaker than the next ones; in {name} it was as strong as they.",
            **values,
        )
        if other.first_db > AS_STRONG_DB
        else worded(
            "The first note is {weaker:.0f} dB weaker than the next ones; in {name} it was {then:.0f} dB weaker.",
            **values,
            then=-other.first_db,
        )
    )
    return [Remark(code="tone.first", says=says, start_s=own.first_s, end_s=own.first_s + 2.0)]


Value = Callable[[LongNote], float | None]
SWELL = _("Long notes swell by {size:.0f} dB a second more than in {name}")
FADE = _("Long notes fade by {size:.0f} dB a second more than in {name}")
WAVER = _("The level of long notes wavers more than in {name}")
RISE = _("Long notes rise by {size:.0f} cents a second more than in {name}")
SINK = _("Long notes sink by {size:.0f} cents a second more than in {name}")
NOISY = _("There is {size:.0f} dB more noise in long notes than in {name}")


def _long_notes(own: Tone, other: Tone, name: str) -> list[Remark]:
    before = {(n.id, n.pass_): n for n in other.long}
    pairs = [(note, before[note.id, note.pass_]) for note in own.long if (note.id, note.pass_) in before]
    found = []
    for code, value, least, more, less in (
        ("tone.swells", lambda n: n.slope_db, SWELLS_DB, SWELL, FADE),
        ("tone.wavers", lambda n: n.wobble_db, WOBBLES_DB, WAVER, WAVER),
        ("tone.moves", lambda n: n.slope_cents, MOVES_CENTS, RISE, SINK),
        ("tone.noise", _noise_above(own), NOISE_DB, NOISY, NOISY),
    ):
        told = _told(pairs, value, least, one_sided=code in ("tone.wavers", "tone.noise"))
        if told is None:
            continue
        size, worst = told
        bars = tuple(dict.fromkeys(note.bar for note in worst))
        what = worded(more if size > 0 else less, size=abs(size), name=name)
        says = counted("{what} (bar {bars}).", "{what} (bars {bars}).", len(bars), what=what, bars=", ".join(bars))
        found.append(Remark(code=code, says=says, start_s=worst[0].start_s, end_s=worst[0].end_s, bars=bars))
    return found


def _noise_above(own: Tone) -> Value:
    """Noise of a note, where it is plainly more than what the room has anyway."""

    def value(note: LongNote) -> float | None:
        if note.noise_db is None:
            return None
        mine = any(note is n for n in own.long)
        return None if mine and note.level_db + note.noise_db - own.background_db < ABOVE_ROOM_DB else note.noise_db

    return value


def _told(pairs: Sequence[tuple[LongNote, LongNote]], value: Value, least: float, one_sided: bool) -> tuple[float, list[LongNote]] | None:
    """The median difference, and the notes that show it most; None where it is small, rare or not one way."""
    rows = [(a - b, note) for note, before in pairs if (a := value(note)) is not None and (b := value(before)) is not None]
    if len(rows) < FEWEST:
        return None
    middle = float(np.median([d for d, _ in rows]))
    way = 1.0 if middle > 0 else -1.0
    if abs(middle) < least or (one_sided and middle < 0):
        return None
    if sum(d * way > least / 2 for d, _ in rows) < SHARE * len(rows):
        return None
    return middle, [note for _, note in sorted(rows, key=lambda row: -row[0] * way)][:4]


def voicing(own: Tone, other: Tone, name: str) -> list[Remark]:
    """How chords are balanced, beside another playing of the same notes, the teacher's too: room and microphone change both notes alike."""
    before = {(c.id, c.pass_): c for c in other.chords}
    rows: list[tuple[float, Balance]] = [(c.upper_db - before[c.id, c.pass_].upper_db, c) for c in own.chords if (c.id, c.pass_) in before]
    if len(rows) < CHORDS:
        return []
    apart = np.array([d for d, _ in rows])
    middle = float(np.median(apart))
    scatter = 1.4826 * float(np.median(np.abs(apart - middle)))
    if abs(middle) < max(VOICED_DB, STANDARD_ERRORS * 1.25 * scatter / np.sqrt(len(rows))):
        return []
    worst = min(rows, key=lambda row: row[0]) if middle < 0 else max(rows, key=lambda row: row[0])
    says = (
        worded("The upper notes of chords sound {size:.0f} dB less against the lower ones than in {name}.", size=-middle, name=name)
        if middle < 0
        else worded("The upper notes of chords sound {size:.0f} dB more against the lower ones than in {name}.", size=middle, name=name)
    )
    at = worst[1].at_s
    return [Remark(code="tone.voicing", says=says, start_s=at, end_s=at + 1.0, bars=(worst[1].bar,))]


def facts(own: Tone) -> list[Remark]:
    """What a take shows by itself, without any judgement: breaths and the weight of first beats."""
    found = []
    inside = [b for b in own.breaths if b.in_slur]
    if own.breaths:
        bars = list(dict.fromkeys(b.bar for b in own.breaths))
        first = (inside or list(own.breaths))[0]
        says = counted(
            "Breaths, or gaps like them, before notes in bar {bars}.",
            "Breaths, or gaps like them, before notes in bars {bars}.",
            len(bars),
            bars=", ".join(bars),
        )
        if inside:
            says = counted("{says} One of them is within a slur.", "{says} {count} of them are within a slur.", len(inside), says=says)
        found.append(Remark(code="tone.breaths", says=says, start_s=max(0.0, first.at_s - 1.0), end_s=first.at_s + 1.0))
    if own.downbeat_db is not None and abs(own.downbeat_db) >= 1.0:
        says = (
            worded("First beats are {size:.0f} dB stronger than the others.", size=own.downbeat_db)
            if own.downbeat_db > 0
            else worded("First beats are {size:.0f} dB weaker than the others.", size=-own.downbeat_db)
        )
        found.append(Remark(code="tone.downbeats", says=says, start_s=0.0, end_s=0.0))
    return found
