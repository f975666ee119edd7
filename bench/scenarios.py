"""Which takes ``bench/accuracy`` is made of: which music, on what, where, through what, with which faults. Nothing is rendered here.

The fit set and the held-out set share nothing but the player: other generators of melodies, sound sources, rooms and seeds.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import recorded
from planted import Scenario

from didactor.core.instruments import BY_SLUG

ONE_VOICE = ("flute", "recorder", "clarinet", "alto-saxophone", "trumpet", "horn", "tuba", "violin", "cello", "guitar", "voice", "piano")
MANY_VOICES = ("piano", "guitar", "ukulele")
#: How late a loudspeaker's sound comes back to the microphone.
DELAY_S = 0.13


@dataclass(frozen=True, kw_only=True)
class Set:
    """What a set of takes is made of. ``base`` is added to all seeds."""

    name: str
    manner: str
    sources: tuple[str, ...]
    rooms: tuple[str, ...]
    base: int
    players: str
    recorded: tuple[tuple[str, ...], tuple[str, ...]]


FIT = Set(
    name="fit",
    manner="steps",
    sources=("timgm", "csound"),
    rooms=("bedroom", "classroom"),
    base=500_000,
    players="arches",
    recorded=(tuple(recorded.FIT), tuple(recorded.FIT_MANY)),
)
#: Whenever single takes of this set have been looked at, ``base`` moves on.
HELD_OUT = Set(
    name="held-out",
    manner="motifs",
    sources=("fluid", "additive"),
    rooms=("kitchen", "hall"),
    base=4_930_000,
    players="rubato",
    recorded=(tuple(recorded.HELD_OUT), tuple(recorded.HELD_OUT_MANY)),
)

#: One degradation each, by name.
DEGRADED: dict[str, list[dict[str, Any]]] = {
    "noise 20 dB": [{"kind": "noise", "snr_db": 20}],
    "white noise 26 dB": [{"kind": "noise", "snr_db": 26, "colour": "white"}],
    "hum": [{"kind": "hum", "snr_db": 22}],
    "talk before and after": [{"kind": "speech", "snr_db": 10, "times_s": [[0.0, 0.6]]}],
    "click": [{"kind": "click", "level_db": -14}],
    "backing": [{"kind": "backing", "level_db": -20}],
    "phone": [{"kind": "phone"}],
    "gain riding": [{"kind": "gain"}],
    "clipped": [{"kind": "clip", "over_db": 8}],
    "opus 24k": [{"kind": "codec", "name": "opus", "bit_rate": 24_000}],
    "mp3 48k": [{"kind": "codec", "name": "mp3", "bit_rate": 48_000}],
    "aac 32k": [{"kind": "codec", "name": "aac", "bit_rate": 32_000}],
    "16 kHz": [{"kind": "rate", "hz": 16_000}],
}

#: What takes to fit to are heard through, besides rooms.
HEARD_THROUGH = ("noise 20 dB", "white noise 26 dB", "hum", "phone", "gain riding", "opus 24k", "mp3 48k", "16 kHz")

#: Takes besides the grid of instruments, sources and rooms; the quick set is dealt from the grid alone.
BESIDES = ("faults: covered", "faults: extras", "degraded: known backing", "faults: over a backing")

#: Faults of a whole take, by name.
WHOLE = (
    "tempo",
    "drift",
    "uneven",
    "octave",
    "tuning",
    "tuning_drift",
    "key",
    "restart",
    "skip",
    "repeat",
    "cut",
    "filled",
    "flat",
    "hand",
    "detuned",
    "entry",
)


def scenarios(which: Set, voices: str) -> list[Scenario]:
    """All takes of one kind of music (``one``, ``many``, ``chords``, ``strokes``, ``pulse`` and so on)."""
    return list(_SCENARIOS[voices](which))


def _one(which: Set) -> Iterator[Scenario]:
    yield from _grid(which, "one", ONE_VOICE, clean=3)
    yield from _simple(
        which, "one", ("flute", "clarinet", "trumpet", "tuba", "violin", "guitar"), "play", 14_000, ("backed", "backed mixed")
    )
    yield from _recorded(which, "one", which.recorded[0], clean=3, mixed=3)


def _many(which: Set) -> Iterator[Scenario]:
    yield from _grid(which, "many", MANY_VOICES, clean=5)
    yield from _simple(which, "many", MANY_VOICES, "covered", 12_000, ("covered", "covered"))
    yield from _simple(which, "many", MANY_VOICES, "play", 13_000, ("extras", "extras"))
    yield from _recorded(which, "many", which.recorded[1], clean=5, mixed=6)


def training(which: Set) -> list[Scenario]:
    """Takes of many voices with many holes, to fit to and for nothing else: plain ones, with one hand softer, heard through something."""
    sources = [(source, MANY_VOICES) for source in which.sources] + [(recorded.SOURCE, which.recorded[1])]
    return [
        Scenario(
            set=which.name,
            voices="many",
            condition="faults: holes",
            instrument=instrument,
            source=source,
            room=room,
            seed=which.base + 150_000 + 4000 * s + 400 * i + 100 * r + k,
            manner=which.manner,
            faults="holes covered" if k % 3 == 1 else "holes",
            degradations=DEGRADED[HEARD_THROUGH[(s + i + r + k) % len(HEARD_THROUGH)]] if k % 3 == 2 else [],
        )
        for s, (source, instruments) in enumerate(sources)
        for i, instrument in enumerate(instruments)
        for r, room in enumerate((*which.rooms, "dry"))
        for k in range(6)
    ]


def _recorded(which: Set, voices: str, instruments: tuple[str, ...], clean: int, mixed: int) -> Iterator[Scenario]:
    """Takes put together from notes that people played; one of four is heard through something."""
    for i, instrument in enumerate(instruments):
        for r, room in enumerate(which.rooms):
            seed = which.base + 130_000 + 10_000 * (voices == "many") + 400 * i + 100 * r
            common = {
                "set": which.name,
                "voices": voices,
                "instrument": instrument,
                "source": recorded.SOURCE,
                "room": room,
                "manner": which.manner,
            }
            for k in range(clean):
                yield Scenario(**common, condition="clean", seed=seed + k, style="beginner" if k == 2 else "trained")
            for k in range(mixed):
                yield Scenario(**common, condition="faults: mixed", seed=seed + 20 + k, faults="mixed")
            for k in range((clean + mixed) // 3):
                name = list(DEGRADED)[(7 * i + 3 * r + 5 * k) % len(DEGRADED)]
                yield Scenario(**common, condition=f"degraded: {name}", seed=seed + 40 + k, degradations=DEGRADED[name])


def _grid(which: Set, voices: str, instruments: tuple[str, ...], clean: int) -> Iterator[Scenario]:
    """Clean takes of every instrument, source and room; each degradation and whole-take fault dealt out among them."""
    number = 0
    for i, instrument in enumerate(instruments):
        for s, source in enumerate(which.sources):
            for r, room in enumerate(which.rooms):
                if not _sings(instrument, source, which):
                    continue
                seed = which.base + 10_000 * (voices == "many") + 400 * i + 100 * s + 50 * r
                common = {
                    "set": which.name,
                    "voices": voices,
                    "instrument": instrument,
                    "source": source,
                    "room": room,
                    "manner": which.manner,
                }
                for k in range(clean):
                    style = "beginner" if k == 2 else "virtuoso" if k == 3 else "trained"
                    yield Scenario(**common, condition="clean", seed=seed + k, style=style)
                for k in range(2 if voices == "one" else 4):
                    names = list(DEGRADED)
                    name = names[(number * (2 if voices == "one" else 4) + k) % len(names)]
                    yield Scenario(**common, condition=f"degraded: {name}", seed=seed + 10 + k, degradations=DEGRADED[name])
                for k in range(2 if voices == "one" else 4):
                    yield Scenario(**common, condition="faults: mixed", seed=seed + 20 + k, faults="mixed")
                for k in range(3 if voices == "one" else 6):
                    kind = WHOLE[(number * (3 if voices == "one" else 6) + k) % len(WHOLE)]
                    if _possible(kind, instrument, voices):
                        yield Scenario(**common, condition=f"faults: {kind}", seed=seed + 30 + k, faults=kind)
                number += 1


def _sings(instrument: str, source: str, which: Set) -> bool:
    """Sound fonts have choirs, no single singer: held-out singing comes from the source of our own alone."""
    return instrument != "voice" or source == "additive" or which.name == "fit"


def _possible(kind: str, instrument: str, voices: str) -> bool:
    bends = BY_SLUG[instrument].bends
    return (
        (kind not in ("detuned", "tuning_drift") or bends)
        and (kind not in ("hand",) or voices == "many")
        and (kind not in ("cut", "filled") or not BY_SLUG[instrument].decays)
        and (kind != "tuning" or instrument != "piano")
    )


def _chords(which: Set) -> Iterator[Scenario]:
    yield from _simple(which, "chords", ("guitar", "ukulele"), "strum", 20_000, ("", "", "mixed", "mixed", "sung"))


def _strokes(which: Set) -> Iterator[Scenario]:
    yield from _simple(
        which, "strokes", ("claps", "percussion"), "play", 30_000, ("", "", "mixed", "stroke", "hesitation", "clicked", "clicked mixed")
    )


def _clapped(which: Set) -> Iterator[Scenario]:
    yield from _simple(which, "clapped", ("claps",), "clap", 40_000, ("", "mixed", "clicked"))


def _pulse(which: Set) -> Iterator[Scenario]:
    yield from _simple(
        which, "pulse", ("flute", "clarinet", "violin", "trumpet", "piano"), "play", 50_000, ("", "tempo", "drift", "uneven")
    )


def _said(which: Set) -> Iterator[Scenario]:
    """Names said in time, by the voice of our own or, held out, by those of another program."""
    speaker = replace(which, sources=("own",) if which.name == "fit" else ("espeak",))
    kinds = ("", "", "hesitation", "hesitation", "tempo", "noisy")
    yield from _simple(speaker, "said", ("flute", "cello", "trumpet"), "say", 60_000, kinds)


def _simple(which: Set, voices: str, instruments: tuple[str, ...], manner: str, offset: int, kinds: tuple[str, ...]) -> Iterator[Scenario]:
    for i, instrument in enumerate(instruments):
        for s, source in enumerate(which.sources):
            for r, room in enumerate(which.rooms):
                for k, kind in enumerate(kinds):
                    seed = which.base + offset + 400 * i + 100 * s + 50 * r + k
                    condition = f"faults: {kind}" if kind else "clean"
                    degradations: list[dict[str, Any]] = []
                    if kind == "sung":
                        condition, kind = "degraded: sung over", ""
                        degradations = [{"kind": "backing", "level_db": -6, "voice": True}]
                    elif kind == "clicked":
                        condition, kind, degradations = "degraded: click", "", DEGRADED["click"]
                    elif kind == "noisy":
                        condition, kind, degradations = "degraded: noise 20 dB, phone", "", [*DEGRADED["noise 20 dB"], *DEGRADED["phone"]]
                    elif kind == "clicked mixed":
                        condition, kind, degradations = "faults: over a click", "mixed", DEGRADED["click"]
                    elif kind.startswith("backed"):
                        condition = "faults: over a backing" if "mixed" in kind else "degraded: known backing"
                        kind, degradations = kind[7:], [{"kind": "backing", "level_db": -8, "through": room, "delay_s": DELAY_S}]
                    yield Scenario(
                        set=which.name,
                        voices=voices,
                        condition=condition,
                        instrument=instrument,
                        source=source,
                        room=room,
                        seed=seed,
                        manner=which.manner,
                        faults=kind,
                        degradations=degradations,
                    )


def _moved(which: Set) -> Iterator[Scenario]:
    """Expressive players without a fault, and single late moments of steady and of expressive players."""
    for voices, instruments in (("one", ("clarinet", "violin", "trumpet", "cello", "flute", "piano")), ("many", ("piano", "guitar"))):
        for i, instrument in enumerate(instruments):
            for s, source in enumerate(which.sources):
                for k in range(3 if voices == "one" else 6):
                    room = which.rooms[(i + s + k) % len(which.rooms)]
                    common = {
                        "set": which.name,
                        "voices": f"{voices} moved",
                        "instrument": instrument,
                        "source": source,
                        "room": room,
                        "manner": which.manner,
                    }
                    seed = which.base + 70_000 + 10_000 * (voices == "many") + 400 * i + 100 * s + 10 * k
                    yield Scenario(**common, condition="clean: expressive", seed=seed, style=which.players)
                    for n, ms in enumerate((80, 120, 200)):
                        for style in ("trained", which.players):
                            name = "steady" if style == "trained" else "expressive"
                            condition = f"faults: {ms} ms late, {name}"
                            yield Scenario(**common, condition=condition, seed=seed + 1 + n, style=style, faults=f"moments {ms}")


def _beside(which: Set) -> Iterator[Scenario]:
    """Faults side by side: bursts, neighbouring moments of both hands, first and last notes."""
    for voices, instruments in (("one", ("flute", "clarinet", "trumpet", "violin", "guitar")), ("many", ("piano", "guitar"))):
        for i, instrument in enumerate(instruments):
            for s, source in enumerate(which.sources):
                for k in range(2 if voices == "one" else 4):
                    for n, kind in enumerate(("missed", "wrong", "ends")):
                        yield Scenario(
                            set=which.name,
                            voices=f"{voices} beside",
                            condition=f"faults: {kind} side by side" if kind != "ends" else "faults: first and last",
                            instrument=instrument,
                            source=source,
                            room=which.rooms[(i + s + k) % len(which.rooms)],
                            seed=which.base + 110_000 + 10_000 * (voices == "many") + 400 * i + 100 * s + 10 * k + n,
                            manner=which.manner,
                            faults=f"beside {kind}",
                        )


def _entries(which: Set) -> Iterator[Scenario]:
    """First notes against a count-off that is heard and not told, and against an accompaniment: right, early, late."""
    instruments = ("flute", "clarinet", "violin", "trumpet", "piano", "cello")
    kinds = ("counted", "counted entry", "along", "along entry")
    for i, instrument in enumerate(instruments):
        for s, source in enumerate(which.sources):
            for k, kind in enumerate(kinds):
                condition = f"{'faults' if 'entry' in kind else 'clean'}: {kind.split()[0]}"
                yield Scenario(
                    set=which.name,
                    voices="entries",
                    condition=condition,
                    instrument=instrument,
                    source=source,
                    room=which.rooms[(i + s) % len(which.rooms)],
                    seed=which.base + 90_000 + 400 * i + 100 * s + k,
                    manner=which.manner,
                    faults="entry" if "entry" in kind else "",
                    degradations=[{"kind": "backing", "level_db": -8, "through": which.rooms[i % 2], "delay_s": DELAY_S}]
                    if "along" in kind
                    else [],
                )


_SCENARIOS = {
    "entries": _entries,
    "one": _one,
    "many": _many,
    "moved": _moved,
    "beside": _beside,
    "chords": _chords,
    "strokes": _strokes,
    "clapped": _clapped,
    "pulse": _pulse,
    "said": _said,
}
