"""One simulated take: expectation, tempo and faults in; sound and its truth out."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.degrade import Degradation, degrade
from didactor.core.sound.player.faults import apply_faults
from didactor.core.sound.player.faults.places import Fault
from didactor.core.sound.player.performance import PerformedNote, Style, perform
from didactor.core.sound.player.render import Sounding, measure_sounding, synthesise
from didactor.core.sound.player.rooms import ROOMS, SYNTH_RATE_HZ, Samples, add_room
from didactor.core.sound.player.speech import speak
from didactor.core.sound.player.strum import strummed

#: How the player realises the notes: as written, their rhythm clapped, the chord symbols strummed in that rhythm, their names said.
MANNERS = ("play", "clap", "strum", "say")


@dataclass(frozen=True, kw_only=True, eq=False)
class SimulatedTake:
    """Samples at ``SYNTH_RATE_HZ`` and the truth: what was played, when it sounded, which faults were asked for."""

    samples: Samples
    truth: dict[str, Any]


def simulate(
    expectation: Expectation,
    instrument: Instrument,
    tempo_qpm: float,
    *,
    faults: list[Fault] | None = None,
    style: Style | None = None,
    source: str = "timgm",
    room: str = "dry",
    seed: int = 0,
    manner: str = "play",
    count_off: int = 0,
    degradations: list[Degradation] | None = None,
) -> SimulatedTake:
    """Render a seeded take.

    Args:
        manner: one of ``MANNERS``. For ``strum``, faults of kind ``chord`` name the symbol played instead: ``{"kind": "chord",
            "note": 3, "chord": "Am"}``.
        count_off: taps of the metrical beat before the first bar, audible in the take; their times are in the truth.
        degradations: see ``degrade``.

    Raises:
        PassageError: impossible faults or degradations.
        CoreError: no synthesiser.
    """
    rng = np.random.default_rng(seed)
    style, faults = style or Style(), faults or []
    beat_s = 60.0 / tempo_qpm * (expectation.bars[0].beat_quarters if expectation.bars else 1.0)
    first_s = 0.7 + float(rng.uniform(0, 0.6))
    clicks = tuple(first_s + i * beat_s for i in range(count_off))
    start_s = first_s + count_off * beat_s - (expectation.pickup_quarters * 60.0 / tempo_qpm if count_off else 0.0)
    listed = [f for f in faults if f.get("kind") != "chord"]
    notes = apply_faults(perform(expectation, instrument, tempo_qpm, style, rng, max(0.2, start_s)), listed, expectation)
    if manner in ("clap", "say"):
        notes = _one_at_a_time(notes)
    elif manner == "strum":
        notes = strummed(notes, expectation, instrument, {int(f["note"]): f["chord"] for f in faults if f.get("kind") == "chord"}, rng)
    if manner == "say":
        dry, sounding = _said(notes, expectation, source, seed), [Sounding(onset_s=n.onset_s, cents=0.0) for n in notes]
    else:
        dry = synthesise(notes, instrument, source, style.vibrato_cents, clicks, seed)
        sounding = measure_sounding(notes, instrument, source, seed)
    samples, known = degrade(add_room(dry, ROOMS[room], rng), degradations or [], rng)
    shift_s = known["shift_s"]
    truth = {
        "tempo_qpm": tempo_qpm,
        "faults": faults,
        "source": source,
        "room": room,
        "seed": seed,
        "manner": manner,
        "instrument": instrument.slug,
        "degradations": [{k: v for k, v in d.items() if k != "samples"} for d in degradations or []],
        "clicks_s": known["clicks_s"] or [round(c - shift_s, 4) for c in clicks],
        "notes": [_truth_of(note, sound, shift_s) for note, sound in zip(notes, sounding, strict=True)],
    }
    return SimulatedTake(samples=samples, truth=truth)


def _said(notes: list[PerformedNote], expectation: Expectation, source: str, seed: int) -> Samples:
    """The names of the notes said in time; a sound that is not in the score is said as its neighbour's name."""
    written = {note.id: note.written_pitch.rstrip("-0123456789") for note in expectation.notes}
    names: list[str] = []
    for note in notes:
        names.append(written.get(note.id) or (names[-1] if names else "C"))
    length = int((max((n.onset_s for n in notes), default=0.0) + 1.5) * SYNTH_RATE_HZ)
    return speak(notes, names, length, seed, source)


def _one_at_a_time(notes: list[PerformedNote]) -> list[PerformedNote]:
    """One stroke, or one name, for all that begins together."""
    claps: list[PerformedNote] = []
    for note in notes:
        if (
            not claps
            or note.quarters > claps[-1].quarters + 1e-6
            or note.pass_ != claps[-1].pass_
            or note.onset_s > claps[-1].onset_s + 0.06
        ):
            claps.append(replace(note, stroke=True, offset_s=note.onset_s + 0.08))
    return claps


def _truth_of(note: PerformedNote, sounding: Sounding, shift_s: float) -> dict[str, Any]:
    return {
        "id": note.id or None,
        "pass": note.pass_,
        "onset_s": round(note.onset_s - shift_s, 4),
        "sounding_onset_s": round(sounding.onset_s - shift_s, 4),
        "offset_s": round(note.offset_s - shift_s, 4),
        "midi": note.midi,
        "cents": round(note.cents, 1),
        "sounding_cents": round(sounding.cents, 1),
        "expected_midi": note.expected_midi,
        "staff": note.staff,
        "velocity": note.velocity,
        "stroke": note.stroke,
        "chord": note.chord,
    }


def model_samples(expectation: Expectation, instrument: Instrument, tempo_qpm: float, count_off: int, beat_quarters: float) -> Samples:
    """The model to practise with: even, in tune, at ``tempo_qpm``, after ``count_off`` taps of the metrical beat."""
    beat_s = 60.0 / tempo_qpm * beat_quarters
    start_s = model_start_s(expectation, tempo_qpm, count_off, beat_quarters)
    style = Style(scatter_ms=0.0, wander_percent=0.0, note_cents=0.0)
    notes = perform(expectation, instrument, tempo_qpm, style, np.random.default_rng(1), start_s)
    clicks = tuple(0.3 + i * beat_s for i in range(count_off))
    return synthesise(notes, instrument, "timgm", 0.0, clicks)


def model_start_s(expectation: Expectation, tempo_qpm: float, count_off: int, beat_quarters: float) -> float:
    """When the first bar begins in ``model_samples``. The count-off leads to the first full bar: it overlaps an anacrusis by its length."""
    return 0.3 + max(0.0, (count_off * beat_quarters - expectation.pickup_quarters) * 60.0 / tempo_qpm)


def wav_bytes(samples: Samples, rate_hz: int = SYNTH_RATE_HZ) -> bytes:
    """16-bit mono WAV."""
    import io

    from scipy.io import wavfile

    buffer = io.BytesIO()
    wavfile.write(buffer, rate_hz, np.round(np.clip(samples, -1, 1) * 32767).astype(np.int16))
    return buffer.getvalue()
