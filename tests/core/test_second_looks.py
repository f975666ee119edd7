"""What the ear makes sure of before it speaks: fading sounds, slow attacks, a note's own pitch, a hand off its moment, limping pulses."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis, analyse
from didactor.core.hearing.alignment import Alignment, Match
from didactor.core.hearing.events import find_events
from didactor.core.hearing.evidence_of_pitch import (
    octave_is_confirmed,
    onset_is_confirmed,
    pitch_is_present,
    span_is_explained,
    speaks_at,
    steady_pitch,
)
from didactor.core.hearing.features import F0_HOP_S, Features, listen, steadiness
from didactor.core.hearing.hearing import Status
from didactor.core.hearing.line_costs import align_line
from didactor.core.hearing.line_extras import extras_of
from didactor.core.hearing.line_notes import JudgedLine
from didactor.core.hearing.one_voice import with_their_scoops
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.peaks import vertex
from didactor.core.score.expected import Expectation, without_notation
from didactor.core.sound.player.degrade import degrade
from didactor.core.sound.player.rooms import ROOMS, Room
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.core.test_alignment import event
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


def by_hand(f0_midi: list[float], voicing: float = 0.9, level_db: float = -20.0) -> Features:
    """Features of a tone whose fundamental is what it is said to be, frame by frame."""
    features = listen(tone(440.0, 0.2 + len(f0_midi) * F0_HOP_S), BY_SLUG["clarinet"])
    pitch = np.array(f0_midi + [0.0] * (len(features.f0_midi) - len(f0_midi)))
    return replace(features, f0_midi=pitch, voicing=np.full(len(pitch), voicing), level_db=np.full(len(features.level_db), level_db))


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

    def test_a_repeat_begun_anew_off_its_place_is_late_not_missing(self):
        line = expectation(REPEATS, fifths=0)
        for instrument in ("trumpet", "cello", "violin"):
            [finding] = heard(line, instrument, {"kind": "late", "note": 5, "ms": 180.0}, room="bedroom").findings
            self.assertEqual((finding.code, finding.bar, finding.beat), ("rhythm.placement", "2", 1.0), instrument)

    def test_what_rings_on_is_an_extra_note_only_when_it_is_struck(self):
        notes = expectation("C4:q E4:q G4:q C5:q", fifths=0)

        class Second:
            def __init__(self, odds):
                self.odds = lambda midi, onset_s, seconds: odds

        for instrument, odds, told in (("piano", 5.9, 0), ("piano", 6.1, 1), ("clarinet", 1.4, 0), ("clarinet", 1.6, 1)):
            sounds = [event(60, 1.0, 0.45), event(64, 1.5, 0.45), event(69, 1.75, 0.2), event(67, 2.0, 0.45), event(72, 2.5, 0.5)]
            line = JudgedLine(
                features=None,
                second=Second(odds),
                events=tuple(sounds),
                alignment=align_line(sounds, notes.notes, 0.5),
                tuning_cents=0.0,
                tuning_concentration=1.0,
                shift=0,
                expectation=notes,
            )
            self.assertEqual([e.midi for e in extras_of(line, BY_SLUG[instrument])], [69] * told, (instrument, odds))

    def extras(self, written: str, sounds: list, matched: dict[int, int], odds: float = 9.0, instrument: str = "clarinet") -> list[int]:
        """Pitches told as extra, of sounds of which some (event to note) are notes."""

        class Second:
            def odds(self, midi: int, onset_s: float, seconds: float) -> float:
                return odds

        line = JudgedLine(
            features=None,
            second=Second(),
            events=tuple(sounds),
            alignment=Alignment(
                matches=tuple(Match(event=e, note=n, jump=False) for e, n in matched.items()), cost_per_note=0.1, seconds_per_quarter=0.5
            ),
            tuning_cents=0.0,
            tuning_concentration=1.0,
            shift=0,
            expectation=expectation(written, fifths=0),
        )
        return [e.midi for e in extras_of(line, BY_SLUG[instrument])]

    def test_a_beginning_that_wavers_is_its_note_and_no_extra_one(self):
        for name, gap_s, midi, told in (("touches", 0.0, 64, []), ("apart", 0.05, 64, [64]), ("another pitch", 0.0, 65, [64])):
            sounds = [event(60, 1.0, 0.4), event(64, 1.5 - gap_s, 0.1), event(midi, 1.6, 0.1), event(64, 1.7, 0.3), event(67, 2.2, 0.4)]
            found = self.extras("C4:q E4:q G4:q", sounds, {0: 0, 3: 1, 4: 2})
            self.assertEqual([m for m in found if m == 64], told, name)
        plucked_twice = [event(60, 1.0, 0.4), event(64, 1.5, 0.1), event(64, 1.6, 0.3), event(67, 2.0, 0.4)]
        for odds, told in ((7.9, []), (8.1, [64])):
            found = self.extras("C4:q E4:q G4:q", plucked_twice, {0: 0, 2: 1, 3: 2}, odds, "guitar")
            self.assertEqual(found, told)

    def test_the_pitch_of_a_note_that_was_not_found_is_that_note_off_its_place(self):
        sounds = [event(60, 1.0, 0.3), event(65, 1.7, 0.2), event(67, 2.0, 0.4)]
        self.assertEqual(self.extras("C4:q F4:q G4:q", sounds, {0: 0, 2: 2}), [])
        self.assertEqual(self.extras("C4:q A4:q G4:q", sounds, {0: 0, 2: 2}), [65])

    def test_notes_whose_time_went_by_were_not_left_out(self):
        line = expectation(" | ".join(["C4:q D4:q E4:q F4:q"] * 4), fifths=0)
        sounds = [event(n.sounding_midi, 0.5 * i) for i, n in enumerate(line.notes)]
        for elapsed_s, taken in ((3.6, True), (2.0, False)):
            kept = sounds[:4] + [event(e.midi, e.onset_s - 4.0 + elapsed_s) for e in sounds[12:]]
            matches = tuple(Match(event=k, note=k if k < 4 else k + 8, jump=k == 4) for k in range(8))
            judged = JudgedLine(
                features=None,
                second=None,
                events=tuple(kept),
                alignment=Alignment(matches=matches, cost_per_note=0.1, seconds_per_quarter=0.5),
                tuning_cents=0.0,
                tuning_concentration=1.0,
                shift=0,
                expectation=line,
            )
            self.assertIs(judged.time_was_taken(3, 12), taken)
            self.assertEqual(judged.place_of(6) is not None, taken)


class ScoopTests(SimpleTestCase):
    """A tone slid into from a semitone below, before the note of C4 at 1 s."""

    def begun(self, **scoop: float) -> tuple[float, bool]:
        """When the note begins, and whether what came before it may still be an extra note."""
        kind = {"midi": 59, "onset_s": 0.9, "duration_s": 0.1, "spread": 0.5} | scoop
        before = event(kind["midi"], kind["onset_s"], kind["duration_s"])
        sounds = [event(64, 0.2, 0.5), replace(before, spread=kind["spread"]), event(60, 1.0, 0.5)]
        matches = (Match(event=0, note=0, jump=False), Match(event=2, note=1, jump=False))
        found = with_their_scoops(sounds, Alignment(matches=matches, cost_per_note=0.1, seconds_per_quarter=0.8), [{64}, {60}])
        self.assertEqual((found[0], found[2].offset_s), (sounds[0], sounds[2].offset_s))
        return found[2].onset_s, not found[1].soft

    def test_a_note_begins_with_its_scoop(self):
        self.assertEqual(self.begun(), (0.9, False))
        self.assertEqual(self.begun(midi=62), (0.9, False))

    def test_a_scoop_that_was_taken_for_the_note_gives_way_to_it(self):
        scoop, tone_ = replace(event(59, 0.9, 0.1), spread=0.5), event(60, 1.0, 0.5)
        for written, pitch in ((60, 60), (59, 59), (62, 59)):
            matches = (Match(event=0, note=0, jump=False),)
            found = with_their_scoops([scoop, tone_], Alignment(matches=matches, cost_per_note=0.1, seconds_per_quarter=0.8), [{written}])
            self.assertEqual((found[0].midi, found[0].onset_s, found[1].soft), (pitch, 0.9, pitch == 60), written)

    def test_a_sound_of_its_own_is_no_scoop(self):
        apart = {"steady": {"spread": 0.1}, "long": {"onset_s": 0.8, "duration_s": 0.2}, "a third": {"midi": 57}}
        apart |= {"before a gap": {"onset_s": 0.8}, "the same pitch": {"midi": 60}}
        for name, kind in apart.items():
            self.assertEqual(self.begun(**kind), (1.0, True), name)


class PitchAndOnsetTests(SimpleTestCase):
    def test_a_rest_that_the_room_fills_is_kept(self):
        written = expectation("C5:h r:h | G4:h r:h | C5:h r:h | G4:w", fifths=0)
        ROOMS["vault"] = Room(rt60_s=2.2, wet=0.4)
        self.addCleanup(ROOMS.pop, "vault")
        self.assertNotIn("articulation.rest_filled", {f.code for f in heard(written, "clarinet", tempo=72.0, room="vault").findings})
        held = heard(written, "clarinet", {"kind": "filled", "note": 1}, tempo=72.0, room="vault")
        self.assertIn("articulation.rest_filled", {f.code for f in held.findings})

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

    def test_an_octave_is_told_by_the_odd_partials_of_the_lower(self):
        low, high = self.features(tone(220.0, 1.0)), self.features(tone(440.0, 1.0))
        below, above = event(57, 0.1, 0.8), event(69, 0.1, 0.8)
        self.assertTrue(octave_is_confirmed(low, below, 69, 0.0))
        self.assertFalse(octave_is_confirmed(high, below, 69, 0.0))
        self.assertTrue(octave_is_confirmed(high, above, 57, 0.0))
        self.assertFalse(octave_is_confirmed(low, above, 57, 0.0))
        # The lower tone rings on under its octave.
        ringing = tone(220.0, 1.2) * np.where(np.arange(int(1.2 * RATE_HZ)) < 0.6 * RATE_HZ, 1.0, 0.3).astype(np.float32)
        ringing[int(0.6 * RATE_HZ) :] += tone(440.0, 0.6)
        self.assertFalse(octave_is_confirmed(self.features(ringing), event(57, 0.6, 0.1), 69, 0.0))

    def test_a_late_onset_is_one_only_where_nothing_began_when_it_was_due(self):
        def begun(at_due: float) -> bool:
            """Whether a tone that is full at 0.65 s, with so much of it from 0.5 s on, is late for 0.5 s."""
            level = np.select([np.arange(RATE_HZ) < n * RATE_HZ for n in (0.5, 0.65)], [0.001, at_due], 1.0)
            return onset_is_confirmed(self.features((tone(440.0, 1.0) * level).astype(np.float32)), 69.0, None, 0.65, 0.5)

        self.assertTrue(begun(0.001))
        self.assertFalse(begun(0.2))  # it swells
        held = self.features(tone(440.0, 1.0))
        self.assertFalse(onset_is_confirmed(held, 69.0, 69.0, 0.65, 0.5))  # no partial of its own
        self.assertFalse(onset_is_confirmed(held, 69.0, None, 0.45, 0.6))  # early, and it does not rise there

    def test_a_pitch_is_there_where_it_stays(self):
        def present(f0_midi: list[float], voicing: float = 0.9) -> bool:
            return pitch_is_present(by_hand(f0_midi, voicing), 60, 0.0, (len(f0_midi) - 1) * F0_HOP_S, 0.0, frames=3)

        self.assertTrue(present([64.0] * 4 + [60.1] * 4 + [64.0] * 4))
        self.assertTrue(present([64.0] * 4 + [72.0] * 4 + [64.0] * 4))  # the ear's own octave
        self.assertFalse(present([64.0] * 4 + [60.0] * 2 + [64.0] * 2 + [60.0] * 2))  # not in a row
        self.assertFalse(present([64.0 - 0.3 * k for k in range(28)]))  # passed on the way
        self.assertFalse(present([60.5] * 12))
        self.assertFalse(present([60.0] * 12, voicing=0.3))

    def test_a_span_is_explained_by_silence_or_by_other_notes(self):
        def explained(f0_midi: list[float], **other: float) -> bool:
            features = by_hand(f0_midi, **other)
            return span_is_explained(features, 0.0, (len(f0_midi) - 1) * F0_HOP_S, [60.0, 64.0], -50.0)

        self.assertTrue(explained([60.0] * 7 + [64.0] * 7 + [62.0] * 6))
        self.assertFalse(explained([60.0] * 6 + [64.0] * 6 + [62.0] * 8))
        self.assertFalse(explained([60.0] * 20, voicing=0.7))
        self.assertTrue(explained([62.0] * 20, level_db=-60.0))
        self.assertFalse(span_is_explained(by_hand([60.0] * 9), 0.1, 0.1, [60.0], -50.0))

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
