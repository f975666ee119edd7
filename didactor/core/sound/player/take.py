"""One simulated take: expectation, tempo and faults in; sound and its truth out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.faults import Fault, apply_faults
from didactor.core.sound.player.performance import PerformedNote, Style, perform
from didactor.core.sound.player.render import ROOMS, SYNTH_RATE_HZ, Samples, add_room, sound_onsets_s, synthesise


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
) -> SimulatedTake:
    """Render a seeded take. Raises ``PassageError`` for impossible faults, ``CoreError`` without a synthesiser."""
    rng = np.random.default_rng(seed)
    style = style or Style()
    start_s = 0.7 + float(rng.uniform(0, 0.6))
    notes = apply_faults(perform(expectation, instrument, tempo_qpm, style, rng, start_s), faults or [], expectation, rng)
    dry = synthesise(notes, instrument, source, style.vibrato_cents)
    sounding = sound_onsets_s(dry, notes)
    truth = {
        "tempo_qpm": tempo_qpm,
        "faults": faults or [],
        "source": source,
        "room": room,
        "seed": seed,
        "instrument": instrument.slug,
        "notes": [_truth_of(note, onset) for note, onset in zip(notes, sounding, strict=True)],
    }
    return SimulatedTake(samples=add_room(dry, ROOMS[room], rng), truth=truth)


def _truth_of(note: PerformedNote, sounding_s: float) -> dict[str, Any]:
    return {
        "id": note.id or None,
        "pass": note.pass_,
        "onset_s": round(note.onset_s, 4),
        "sounding_onset_s": round(sounding_s, 4),
        "offset_s": round(note.offset_s, 4),
        "midi": note.midi,
        "cents": round(note.cents, 1),
        "expected_midi": note.expected_midi,
    }


def model_samples(expectation: Expectation, instrument: Instrument, tempo_qpm: float, count_off: int, beat_quarters: float) -> Samples:
    """The model to practise with: even, in tune, at ``tempo_qpm``, after ``count_off`` taps of the metrical beat."""
    beat_s = 60.0 / tempo_qpm * beat_quarters
    pickup_s = 0.0
    first = expectation.bars[0]
    if first.number == "0":
        # The count-off leads to the next full bar, so it overlaps the anacrusis by the anacrusis' length.
        pickup_s = first.length_quarters * 60.0 / tempo_qpm
    start_s = 0.3 + max(0.0, count_off * beat_s - pickup_s)
    style = Style(scatter_ms=0.0, wander_percent=0.0, note_cents=0.0)
    notes = perform(expectation, instrument, tempo_qpm, style, np.random.default_rng(1), start_s)
    clicks = tuple(0.3 + i * beat_s for i in range(count_off))
    return synthesise(notes, instrument, "timgm", 0.0, clicks)


def wav_bytes(samples: Samples, rate_hz: int = SYNTH_RATE_HZ) -> bytes:
    """16-bit mono WAV."""
    import io

    from scipy.io import wavfile

    buffer = io.BytesIO()
    wavfile.write(buffer, rate_hz, np.round(np.clip(samples, -1, 1) * 32767).astype(np.int16))
    return buffer.getvalue()
