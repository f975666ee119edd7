"""Is a recording usable? A verdict, the places, and for each problem a sentence that says what to change.

Levels are dBFS of 50 ms frames. The gate judges the sound alone; whether it is the right music is decided after alignment
(``another_piece``). Thresholds are starting values, settled by the benchmark.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.fft import rfft

from didactor.core.errors import Problem
from didactor.core.sound.recording import RATE_HZ, Recording
from didactor.core.units import amplitude_to_db
from didactor.core.words import _

FRAME_S = 0.05
#: Level of the loud frames (their 95th percentile). A wrong input gives noise below -60 dBFS; a phone two metres from a soft instrument
#: some -40.
SILENT_DBFS = -60.0
QUIET_DBFS = -42.0
#: Share of the take that is clipped beyond which it is worth a remark, in percent of its length.
CLIPPED_PERCENT = 0.5
NOISY_SNR_DB = 12.0
UNUSABLE_SNR_DB = 4.0
DROPOUT_S, MOST_DROPOUTS = 0.04, 20
#: Less than half a step of 16 bits: no microphone is so quiet.
DIGITAL_SILENCE = 1.5e-5
MIN_DURATION_S = 0.5
#: A recording is cut when its first or last moments are within so much of its loud ones.
EDGE_S, EDGE_BELOW_DB = 0.06, 8.0
GAIN_RIDING_DB = 8.0
#: The frames of 32 ms before anybody plays, and how little a hiss changes in them.
HISS_FRAMES, HISS_SPREAD_DB = slice(2, 10), 1.5
MUFFLED_DB = -48.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Quality:
    """``verdict`` is ``ok``, ``poor`` (judged with care) or ``unusable`` (nothing is judged). ``numbers`` are for engineers."""

    verdict: str
    problems: tuple[Problem, ...] = ()
    numbers: dict[str, float] = field(default_factory=dict)


def assess(recording: Recording) -> Quality:
    """Assess level, clipping, dropouts, noise and bandwidth of a recording."""
    samples = recording.samples
    frame = int(FRAME_S * RATE_HZ)
    count = len(samples) // frame
    if recording.duration_s < MIN_DURATION_S or count < 4:
        return Quality(verdict="unusable", problems=(*recording.problems, _throughout(recording, "too_short")))
    rms = np.sqrt(np.square(samples[: count * frame].reshape(count, frame), dtype=np.float64).mean(axis=1))
    levels = 20 * np.log10(np.maximum(rms, 1e-7))
    loud = float(np.percentile(levels, 95))
    clipped = sum(b - a for a, b in recording.clipped_s)
    numbers = {
        "loud_dbfs": round(loud, 1),
        "floor_dbfs": round(float(np.percentile(levels, 5)), 1),
        "peak_dbfs": round(amplitude_to_db(float(np.abs(samples).max())), 1),
        "clipped_percent": round(100 * clipped / recording.duration_s, 2),
    }
    if loud < SILENT_DBFS:
        return Quality(verdict="unusable", problems=(*recording.problems, _throughout(recording, "silent")), numbers=numbers)
    whole, high, room = _bands_db(samples)
    numbers["gain_riding_db"] = round(_gain_riding_db(whole, room), 1)
    # Loud moments above 1.5 kHz against the whole.
    numbers["high_band_db"] = round(float(np.percentile(high, 95) - np.percentile(whole, 95)), 1)
    numbers["snr_db"] = round(_snr_db(samples), 1)
    problems = list(recording.problems)
    if loud < QUIET_DBFS:
        problems.append(_throughout(recording, "too_quiet"))
    if numbers["clipped_percent"] > CLIPPED_PERCENT:
        problems.append(_problem("clipped", recording.clipped_s[0][0], recording.clipped_s[-1][1]))
    problems += [_problem("dropout", a, b) for a, b in (*recording.gaps_s, *_dropouts(samples, levels))][:MOST_DROPOUTS]
    problems += _cut_off(samples, loud)
    if numbers["gain_riding_db"] > GAIN_RIDING_DB:
        problems.append(_throughout(recording, "gain_riding"))
    if numbers["high_band_db"] < MUFFLED_DB:
        problems.append(_throughout(recording, "muffled"))
    drowned = numbers["snr_db"] < UNUSABLE_SNR_DB and not _is_tonal(samples)
    if numbers["snr_db"] < NOISY_SNR_DB:
        problems.append(_throughout(recording, "drowned" if drowned else "noisy"))
    return Quality(verdict="unusable" if drowned else "poor" if problems else "ok", problems=tuple(problems), numbers=numbers)


#: What is wrong and what to change, in words for a student.
_WORDS = {
    "too_short": _("The recording is shorter than half a second. Record the whole passage."),
    "silent": _("There is no sound in this take. Choose the right microphone, hear a few seconds of it, and record again."),
    "too_quiet": _("The take is very quiet. Move closer to the microphone or turn its level up."),
    "clipped": _("The microphone was too loud and distorts. Move it further away or turn its level down."),
    "dropout": _("Sound is missing here: the recorder lost a moment. Close other programs and record again."),
    "begins_late": _("The recording begins in the middle of the sound. Start recording a moment before you play."),
    "ends_early": _("The recording ends in the middle of the sound. Let the last note fade before you stop."),
    "gain_riding": _("The recorder changes the level by itself: loud and soft cannot be judged. Turn automatic gain off, if you can."),
    "muffled": _("The sound is muffled: something covers the microphone. Uncover it, or turn it towards the instrument."),
    "noisy": _("The room is noisy: some notes may not be judged. Find a quieter place, close the window, move closer."),
    "drowned": _("There is more noise than music here. Find a quieter place, close the window, move closer."),
}


def _problem(code: str, start_s: float, end_s: float) -> Problem:
    return Problem(code="noisy" if code == "drowned" else code, text=_WORDS[code], start_s=start_s, end_s=end_s)


def _throughout(recording: Recording, code: str) -> Problem:
    return _problem(code, 0.0, recording.duration_s)


def _cut_off(samples: np.ndarray, loud_db: float) -> list[Problem]:
    """Sound that is already, or still, near its full level at the very edge of the recording."""
    edge, end_s = int(EDGE_S * RATE_HZ), len(samples) / RATE_HZ
    found = []
    for code, piece, start_s in (("begins_late", samples[:edge], 0.0), ("ends_early", samples[-edge:], end_s - EDGE_S)):
        level = amplitude_to_db(float(np.sqrt(np.square(piece, dtype=np.float64).mean())))
        if level > loud_db - EDGE_BELOW_DB:
            found.append(_problem(code, start_s, start_s + EDGE_S))
    return found


def _power(samples: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Power spectra of frames of 32 ms, shape (frames, bins), and the bins' frequencies."""
    size = 1024
    frames = np.lib.stride_tricks.sliding_window_view(samples, size)[::size] if len(samples) >= size else samples[None, :]
    power = np.square(np.abs(rfft(frames * np.hanning(frames.shape[1]).astype(np.float32), axis=1)))
    return power, np.fft.rfftfreq(frames.shape[1], 1 / RATE_HZ)


def _bands_db(samples: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Levels in frames of 32 ms, dB: of everything, of what is above 1.5 kHz, and of the room's hiss at 7 to 12 kHz."""
    power, hz = _power(samples)
    bands = ((60.0, 15_000.0), (1500.0, 15_000.0), (7000.0, 12_000.0))
    whole, high, room = (10 * np.log10(power[:, (hz >= a) & (hz < b)].sum(axis=1) + 1e-12) for a, b in bands)
    return whole, high, room


def _gain_riding_db(whole: np.ndarray, room: np.ndarray) -> float:
    """How much louder the room's hiss is before the playing than in the quietest moments later: a recorder that rides the gain
    turns silence up and playing down. 0 where the recording does not begin with a steady hiss.
    """
    before = room[HISS_FRAMES]
    playing = len(room) < 60 or np.median(whole[HISS_FRAMES]) > np.percentile(whole, 90) - EDGE_BELOW_DB
    if playing or before.std() > HISS_SPREAD_DB:
        return 0.0
    return max(0.0, float(np.median(before) - np.percentile(room[HISS_FRAMES.stop :], 8)))


def _snr_db(samples: np.ndarray) -> float:
    """Loud moments against the floor, in dB: in each band of frequency the 5th percentile over time is what never falls silent.

    Steady playing without a pause still leaves most bands empty now and then; sparse claps are loud for a moment only.
    """
    size, hop = 2048, 1600
    frames = np.lib.stride_tricks.sliding_window_view(samples, size)[::hop] if len(samples) >= size else samples[None, :]
    power = np.square(np.abs(rfft(frames * np.hanning(frames.shape[1]).astype(np.float32), axis=1)))
    edges = np.unique(np.geomspace(4, power.shape[1], 25).astype(int))
    bands = np.add.reduceat(power, edges[:-1], axis=1)
    loud, floor = np.percentile(bands.sum(axis=1), 97), np.percentile(bands, 5, axis=0).sum()
    return float(10 * np.log10((loud + 1e-12) / (floor + 1e-12)))


def _is_tonal(samples: np.ndarray) -> bool:
    """Whether the long-term spectrum has lines (music) or is smooth (noise): crest of 4096-sample frames."""
    size = 4096
    count = min(len(samples) // size, 400)
    if count == 0:
        return False
    frames = samples[: count * size].reshape(count, size) * np.hanning(size).astype(np.float32)
    spectrum = np.abs(rfft(frames, axis=1))[:, 8:1024] ** 2
    crest = spectrum.max(axis=1) / np.maximum(spectrum.mean(axis=1), 1e-20)
    return bool(np.median(crest) > 40.0)


def _dropouts(samples: np.ndarray, levels: np.ndarray) -> list[tuple[float, float]]:
    """Runs of digital silence inside playing (a recorder's buffer lost, not a rest)."""
    zero = np.concatenate(([0], (np.abs(samples) < DIGITAL_SILENCE).astype(np.int8), [0]))
    edges = np.flatnonzero(np.diff(zero))
    found = []
    for start, end in zip(edges[::2], edges[1::2], strict=True):
        if end - start < DROPOUT_S * RATE_HZ or start == 0 or end >= len(samples):
            continue
        before = samples[max(0, start - 320) : start]
        after = samples[end : end + 320]
        if len(before) and len(after) and np.abs(before).max() > 0.01 and np.abs(after).max() > 0.01:
            found.append((start / RATE_HZ, end / RATE_HZ))
    return found
