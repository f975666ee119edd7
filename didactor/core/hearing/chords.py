"""The ear for strummed chord charts: when each stroke came, and whether the chord written there sounded.

Strokes are found and aligned as claps are; the note model says which pitch classes ring after each. A chord is judged over all
strokes from one change to the next as well as stroke by stroke, since one muffled stroke proves nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from didactor.core.arrays import FloatArray
from didactor.core.hearing.alignment import align
from didactor.core.hearing.features import FLUX_HOP_S, onset_strength, short_time
from didactor.core.hearing.groups import AROUND_S, EARLY_S, FAINT, Moment, moments_of
from didactor.core.hearing.hearing import ChordReading, Hearing, Status, Tuning
from didactor.core.hearing.note_model import LOWEST_MIDI, Posteriors, note_posteriors
from didactor.core.hearing.spectrum import tuning_of
from didactor.core.hearing.strokes import Stroke, hearing_of, stroke_material
from didactor.core.instruments import Instrument
from didactor.core.score.chords import chord_pitch_classes
from didactor.core.score.expected import Expectation
from didactor.core.units import A4_HZ

#: Strings ring in this range; a singing voice and overtones lie mostly above.
LOWEST_STRING, TOP_MIDI = 38, 76
#: A stroke makes at least so many keys begin (as a sum of posteriors), and this share of what is usual in the take.
LEAST_KEYS, SHARE_OF_USUAL = 0.3, 0.22
CLOSE_S = 0.09
#: A stroke too many is claimed from this share of the usual one on: a voice that sings along sounds like fainter ones.
CLEAR_STROKE = 0.7
#: Strings alone leave nothing between the strokes. With so many sounds there, however faint, somebody sings along or the strings are hit
#: between: a louder one among them is then no stroke too many.
SUNG_FROM = 4
RINGS_FROM_S, RINGS_AT_MOST_S = 0.04, 0.6
#: A pitch class that is not in the chord counts this much against it.
FOREIGN_WEIGHT = 0.9
#: Margin of the written chord over the best other from which it is right, and below which it is wrong.
RIGHT_FROM, WRONG_BELOW = -0.02, -0.1
#: Share of its chord's other strokes in what is said of one stroke.
NEIGHBOURS_SHARE = 0.35
PAIR_SCALE = 0.35
ROOTS = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
CANDIDATES = {f"{root}{kind}": chord_pitch_classes(f"{root}{kind}") for root in ROOTS for kind in ("", "m")}
ENOUGH_STROKES = 3


def hear(samples: npt.NDArray[np.float32], expectation: Expectation, seconds_per_quarter: float, instrument: Instrument) -> Hearing | None:
    """Hear a strummed chart. Returns None where there are hardly any strokes.

    Args:
        samples: mono at ``RATE_HZ``.
        expectation: its notes are the strokes, its chords the symbols in force.
        seconds_per_quarter: the target tempo, a first guess.
    """
    peak = float(np.abs(samples).max()) if len(samples) else 0.0
    normal = samples / max(peak, 1e-9) * 0.7
    tuning_cents, concentration = tuning_of(normal)
    posteriors = note_posteriors(normal, tuning_cents)
    strokes = find_strums(posteriors, normal)
    if len(strokes) < min(ENOUGH_STROKES, len(expectation.notes)):
        return None
    rings = _ringing(posteriors, strokes)
    moments = moments_of(expectation)
    written = [_chord_at(expectation, m) for m in moments]
    margins = np.array([[_margin(ring, w.pitch_classes) if w else 0.0 for w in written] for ring in rings])
    pair = PAIR_SCALE * np.clip(-margins, 0.0, 1.0)
    alignment = align(stroke_material(strokes, moments, pair), seconds_per_quarter)
    hearing = hearing_of(strokes, moments, alignment, expectation, CLEAR_STROKE)
    matched = {m.note: m.event for m in alignment.matches}
    matched_events = set(matched.values())
    between = [i for i in range(min(matched_events, default=0), max(matched_events, default=0)) if i not in matched_events]
    if hearing.extra and len(between) >= SUNG_FROM:
        hearing = replace(hearing, extra=(), count=None)
    return replace(
        hearing,
        chords=tuple(_readings(expectation, moments, written, matched, strokes, rings)),
        tuning=Tuning(a4_hz=A4_HZ * 2 ** (tuning_cents / 1200), offset_cents=tuning_cents, concentration=concentration),
    )


def find_strums(posteriors: Posteriors, samples: npt.NDArray[np.float32]) -> list[Stroke]:
    """Strokes over strings: many keys begin within the time it takes to cross them. Timed by the rise of the whole spectrum."""
    keys = posteriors.onset[:, LOWEST_STRING - LOWEST_MIDI : TOP_MIDI - LOWEST_MIDI + 1]
    begins = uniform_filter1d(np.where(keys > FAINT, keys, 0.0).sum(axis=1), 5)
    peaks = np.flatnonzero((begins == maximum_filter1d(begins, 11)) & (begins > LEAST_KEYS))
    if len(peaks) == 0:
        return []
    usual = float(np.median(np.sort(begins[peaks])[-max(3, len(peaks) // 2) :]))
    flux = onset_strength(short_time(samples))
    reach = round(AROUND_S / FLUX_HOP_S)
    sharp = maximum_filter1d(flux, 2 * reach + 1)[np.clip(np.round(peaks * posteriors.hop_s / FLUX_HOP_S).astype(int), 0, len(flux) - 1)]
    usual_flux = float(np.median(np.sort(sharp)[-max(3, len(peaks) // 2) :]))
    found: list[Stroke] = []
    for peak in peaks.tolist():
        near_s = peak * posteriors.hop_s + EARLY_S
        first, last = round((near_s - AROUND_S) / FLUX_HOP_S), round((near_s + AROUND_S) / FLUX_HOP_S)
        window = flux[max(0, first) : max(0, last) + 1]
        if len(window) == 0:
            continue
        # A voice that sings along begins few keys at once, and softly.
        strength = float(np.sqrt(begins[peak] / max(usual, 1e-6) * window.max() / max(usual_flux, 1e-6)))
        if strength < SHARE_OF_USUAL:
            continue
        time_s = (max(0, first) + int(np.argmax(window))) * FLUX_HOP_S
        if found and time_s - found[-1].time_s < CLOSE_S:
            if strength > found[-1].strength:
                found[-1] = Stroke(time_s=time_s, strength=strength)
            continue
        found.append(Stroke(time_s=time_s, strength=strength))
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class _Written:
    text: str
    pitch_classes: tuple[int, ...]
    number: int


def _chord_at(expectation: Expectation, moment: Moment) -> _Written | None:
    found = None
    for number, chord in enumerate(expectation.chords):
        if chord.onset_quarters <= moment.quarters + 1e-6:
            found = _Written(text=chord.text, pitch_classes=chord.pitch_classes, number=number)
    return found


def _ringing(posteriors: Posteriors, strokes: Sequence[Stroke]) -> list[FloatArray]:
    """For each stroke how much each of the twelve pitch classes rings after it, 0..1."""
    result = []
    for k, stroke in enumerate(strokes):
        until = strokes[k + 1].time_s if k + 1 < len(strokes) else stroke.time_s + RINGS_AT_MOST_S
        first = posteriors.frame(stroke.time_s + RINGS_FROM_S)
        last = max(first + 1, posteriors.frame(min(until - 0.01, stroke.time_s + RINGS_AT_MOST_S)))
        keys = posteriors.sounding[first:last].mean(axis=0)[: TOP_MIDI - LOWEST_MIDI + 1]
        classes = np.zeros(12)
        for key, value in enumerate(keys.tolist()):
            pitch_class = (key + LOWEST_MIDI) % 12
            classes[pitch_class] = max(classes[pitch_class], value)
        result.append(classes / max(float(np.sort(classes)[-3:].mean()), 0.1))
    return result


def _fit(ring: FloatArray, classes: tuple[int, ...]) -> float:
    """How well a chord explains what rings: its pitch classes must ring, and others must not."""
    inside = np.zeros(12, dtype=bool)
    inside[list(classes)] = True
    clipped = np.minimum(ring, 1.0)
    return float(clipped[inside].mean() - FOREIGN_WEIGHT * np.sort(clipped[~inside])[-2:].mean())


def _margin(ring: FloatArray, written: tuple[int, ...]) -> float:
    """Fit of the written chord over the best chord that is really another: with a pitch class that is not written."""
    own = _fit(ring, written)
    others = [_fit(ring, classes) for classes in CANDIDATES.values() if not set(classes) <= set(written)]
    return own - max(others)


def _readings(
    expectation: Expectation,
    moments: list[Moment],
    written: list[_Written | None],
    matched: dict[int, int],
    strokes: list[Stroke],
    rings: list[FloatArray],
) -> list[ChordReading]:
    own = {m: _margin(rings[e], w.pitch_classes) for m, e in matched.items() if (w := written[m]) is not None}
    readings = []
    for m, moment in enumerate(moments):
        chord, note = written[m], expectation.notes[moment.notes[0]]
        if chord is None:
            continue
        if m not in matched:
            readings.append(ChordReading(note=note, written=chord.text, heard=None, status=Status.MISSED, confidence=0.8))
            continue
        company = [own[o] for o in own if o != m and (w := written[o]) is not None and w.number == chord.number]
        # Neighbours can only reassure: a chord that came late is wrong on its first stroke and right on the next.
        around = max(own[m], float(np.median(company))) if company else own[m]
        margin = (1 - NEIGHBOURS_SHARE) * own[m] + NEIGHBOURS_SHARE * around
        heard = _best(rings[matched[m]], chord)
        status = Status.CORRECT if margin >= RIGHT_FROM else Status.WRONG_PITCH if margin < WRONG_BELOW else Status.UNCERTAIN
        if status is Status.CORRECT:
            heard = chord.text
        distance = abs(margin - 0.5 * (RIGHT_FROM + WRONG_BELOW))
        readings.append(
            ChordReading(
                note=note,
                written=chord.text,
                heard=heard,
                status=status,
                confidence=float(np.clip(0.6 + 1.2 * distance, 0.3, 0.99)) if status is not Status.UNCERTAIN else 0.4,
                onset_s=strokes[matched[m]].time_s,
            )
        )
    return readings


def _best(ring: FloatArray, written: _Written) -> str:
    options = {**CANDIDATES, written.text: written.pitch_classes}
    return max(options, key=lambda name: _fit(ring, options[name]))
