"""What the ear makes sure of before it speaks: fading sounds, slow attacks, a note's own pitch, a hand off its moment, limping pulses."""

from __future__ import annotations

from functools import cache

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis, analyse
from didactor.core.hearing.events import find_events
from didactor.core.hearing.evidence_of_pitch import speaks_at, steady_pitch
from didactor.core.hearing.features import listen, steadiness
from didactor.core.hearing.hearing import Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.peaks import vertex
from didactor.core.score.expected import Expectation, without_notation
from didactor.core.sound.player.degrade import degrade
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import expectation

REPEATS = "G4:q G4:q A4:q A4:q | B4:q B4:q A4:q A4:q | G4:q G4:q G4:q B4:q | A4:h G4:h"
HANDS = {"text": "C5:q E5:q G5:q E5:q | F5:q A5:q G5:q E5:q | D5:q F5:q E5:q C5:q", "lower": "C3:h G3:h | F3:h C3:h | G3:h C3:h"}


def tone(hz: float, seconds: float, attack_s: float = 0.01, partials: int = 6) -> np.ndarray:
    time = np.arange(int(seconds * RATE_HZ)) / RATE_HZ
    sound = sum(np.sin(2 * np.pi * hz * n * time) / n for n in range(1, partials + 1))
    return (0.2 * np.minimum(1.0, time / attack_s) * sound).astype(np.float32)


@cache
def sound_of(expected: Expectation, instrument: str, tempo: float, faults: tuple, room: str = "hall", source: str = "timgm") -> np.ndarray:
    take = simulate(expected, BY_SLUG[instrument], tempo, faults=[dict(f) for f in faults], room=room, source=source, seed=6)
    return soxr.resample(take.samples, 44_100, RATE_HZ).astype(np.float32)


def heard(
    expected: Expectation,
    instrument: str,
    *faults: dict,
    tempo: float = 88.0,
    room: str = "hall",
    against: Expectation | None = None,
    step: str = "play",
) -> Analysis:
    samples = sound_of(expected, instrument, tempo, tuple(tuple(sorted(f.items())) for f in faults), room)
    return analyse(Recording(samples=samples), against or expected, Targets(tempo_qpm=tempo, instrument=instrument, step=step))


class RepeatedPitchTests(SimpleTestCase):
    def test_a_room_s_tail_is_no_repeated_note(self):
        line = expectation(REPEATS, fifths=0)
        for instrument in ("clarinet", "trumpet", "violin"):
            analysis = heard(line, instrument, {"kind": "missed", "note": 5})
            self.assertIs(analysis.evidence.notes[5].status, Status.MISSED, instrument)
            self.assertEqual([f.code for f in analysis.findings], ["notes.missed"], instrument)

    def test_repeated_notes_that_are_played_stay_right(self):
        line = expectation(REPEATS, fifths=0)
        for instrument in ("flute", "trumpet", "cello"):
            notes = heard(line, instrument).evidence.notes
            self.assertLessEqual({n.status for n in notes}, {Status.CORRECT, Status.UNCERTAIN}, instrument)


class PitchAndOnsetTests(SimpleTestCase):
    def features(self, samples: np.ndarray):
        return listen(samples, BY_SLUG["clarinet"])

    def test_a_steady_pitch_is_measured_within_a_cent(self):
        for hz in (196.0, 441.5, 1318.5):
            features = self.features(tone(hz, 1.0))
            pitch = 69 + 12 * np.log2(hz / 440)
            self.assertAlmostEqual(steady_pitch(features, 0.1, 0.9, pitch + 0.15), pitch, delta=0.01)
        self.assertIsNone(steady_pitch(features, 0.1, 0.11, 69.0))

    def test_a_slow_tone_speaks_at_half_its_level(self):
        quiet = np.zeros(RATE_HZ // 2, dtype=np.float32)
        features = self.features(np.concatenate((quiet, tone(440.0, 0.8, attack_s=0.1), quiet)))
        for guess in (0.5, 0.55):
            self.assertAlmostEqual(speaks_at(features, guess, 69.0, None), 0.55, delta=0.012)

    def test_events_of_a_slide_and_a_tone_hold_differently(self):
        time = np.arange(3 * RATE_HZ) / RATE_HZ
        slide = 0.3 * np.sin(2 * np.pi * np.cumsum(300 + 200 * np.sin(2 * np.pi * 1.5 * time)) / RATE_HZ)
        self.assertLess(steadiness(self.features(slide.astype(np.float32))), 0.4)
        held = self.features(tone(330.0, 2.0))
        self.assertGreater(steadiness(held), 0.9)
        [event] = [e for e in find_events(held, BY_SLUG["clarinet"], 0.0) if not e.soft]
        self.assertEqual(event.midi, 64)

    def test_a_vertex_lies_where_the_parabola_turns(self):
        self.assertAlmostEqual(vertex(*(-((x - 0.3) ** 2) for x in (-1, 0, 1))), 0.3)
        self.assertEqual(vertex(1.0, 1.0, 1.0), 0.0)


class HandsTests(SimpleTestCase):
    def two_hands(self) -> Expectation:
        return expectation(HANDS["text"], lower=HANDS["lower"], name="Piano", fifths=0)

    def test_one_note_of_a_chord_off_its_moment_is_late_not_missing(self):
        line = self.two_hands()
        index = next(i for i, n in enumerate(line.notes) if n.staff == 2 and n.bar == "2" and n.beat == 2.0)
        analysis = heard(line, "piano", {"kind": "late", "note": index, "ms": 170}, room="bedroom")
        self.assertEqual([(f.code, f.bar) for f in analysis.findings], [("rhythm.placement", "2")])
        self.assertAlmostEqual(analysis.evidence.notes[index].early_late_ms, 170, delta=45)

    def test_a_wrong_key_is_named(self):
        line = self.two_hands()
        index = next(i for i, n in enumerate(line.notes) if n.staff == 1 and n.bar == "2" and n.beat == 1.0)
        for semitones in (2, -1):
            analysis = heard(line, "piano", {"kind": "wrong", "note": index, "semitones": semitones}, room="bedroom")
            self.assertEqual([f.code for f in analysis.findings], ["notes.wrong"], semitones)


class PulseWithoutNotationTests(SimpleTestCase):
    def test_a_limp_is_heard_without_the_notes(self):
        line = expectation("C5:e D5:e E5:q F5:e E5:e D5:q | C5:e E5:e G5:q E5:e D5:e C5:q | " * 3 + "C5:w", fifths=0)
        bars = without_notation(7, 4, 4)
        limping = heard(line, "clarinet", {"kind": "uneven", "percent": 63}, room="bedroom", against=bars, step="pulse")
        self.assertIn("rhythm.uneven", {f.code for f in limping.findings})
        even = heard(line, "clarinet", room="bedroom", against=bars, step="pulse")
        self.assertEqual(even.findings, ())
        self.assertAlmostEqual(even.evidence.tempo.played_qpm, 88.0, delta=1.0)


class TalkTests(SimpleTestCase):
    def test_talk_is_told_from_another_piece(self):
        rng = np.random.default_rng(2)
        still = rng.normal(0, 1e-4, 12 * 44_100).astype(np.float32)
        still[:50] += 0.05
        talk = soxr.resample(degrade(still, [{"kind": "speech", "snr_db": -60}], rng)[0] / 30, 44_100, RATE_HZ).astype(np.float32)
        expected = expectation()
        analysis = analyse(Recording(samples=talk), expected, Targets(tempo_qpm=92.0, instrument="clarinet"))
        self.assertIsNone(analysis.evidence)
        self.assertIn(analysis.quality.problems[-1].code, ("speech", "another_piece"))
