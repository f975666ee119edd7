"""Sound to note events: onsets, repeated pitches, tuning, octaves, low and high instruments."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.hearing.events import _decode_states, find_events, find_tuning
from didactor.core.hearing.evidence_of_pitch import octave_is_confirmed, onset_is_confirmed, pitch_is_present
from didactor.core.hearing.features import Features, listen
from didactor.core.instruments import BY_SLUG, INSTRUMENTS, find_instrument
from didactor.core.sound.player.performance import PerformedNote
from didactor.core.sound.player.render import synthesise
from didactor.core.sound.player.rooms import ROOMS, SYNTH_RATE_HZ, add_room
from didactor.core.sound.recording import RATE_HZ


def note(midi: int, onset_s: float, length_s: float, cents: float = 0.0) -> PerformedNote:
    return PerformedNote(
        id="", pass_=1, onset_s=onset_s, offset_s=onset_s + length_s, midi=midi, cents=cents, velocity=80, expected_midi=midi, quarters=0.0
    )


def sound(notes: list[PerformedNote], slug: str, room: str = "bedroom") -> np.ndarray:
    dry = synthesise(notes, BY_SLUG[slug], "timgm")
    wet = add_room(dry, ROOMS[room], np.random.default_rng(2))
    return np.asarray(soxr.resample(wet, SYNTH_RATE_HZ, RATE_HZ), dtype=np.float32)


class DecodingTests(SimpleTestCase):
    def decoded(self, pitches: list[float], voicing: float = 0.95) -> list[int]:
        """States of frames that were heard at some pitches."""
        nothing = np.zeros(1)
        features = Features(
            f0_midi=np.array(pitches),
            voicing=np.full(len(pitches), voicing),
            flux=nothing,
            level_db=nothing,
            magnitudes=np.zeros((1, 1), dtype=np.float32),
            samples=np.zeros(1, dtype=np.float32),
            duration_s=1.0,
        )
        return _decode_states(features, 50, 80, 0.0).tolist()

    def test_one_stray_frame_is_no_note_and_a_change_is_one(self):
        self.assertEqual(self.decoded([60.0] * 10 + [67.0] + [60.0] * 10), [60] * 21)
        self.assertEqual(self.decoded([60.2] * 12 + [62.1] * 12), [60] * 12 + [62] * 12)

    def test_what_has_no_voice_is_silence(self):
        self.assertEqual(set(self.decoded([60.0] * 10, voicing=0.05)), {-1})


class EventTests(SimpleTestCase):
    def heard(self, notes: list[PerformedNote], slug: str, room: str = "bedroom") -> list:
        features = listen(sound(notes, slug, room), BY_SLUG[slug])
        return find_events(features, BY_SLUG[slug], find_tuning(features)[0])

    def test_each_note_once_with_its_onset(self):
        pitches = [62, 64, 66, 69, 67, 62]
        for slug in ("clarinet", "cello", "guitar"):
            with self.subTest(slug=slug):
                notes = [note(p, 0.8 + 0.4 * i, 0.38) for i, p in enumerate(pitches)]
                events = [e for e in self.heard(notes, slug) if not e.soft]
                self.assertEqual([e.midi for e in events], pitches)
                errors = np.array([e.onset_s - n.onset_s for e, n in zip(events, notes, strict=True)])
                self.assertLess(np.abs(errors - np.median(errors)).max(), 0.03)

    def test_repeated_notes_are_heard_apart(self):
        notes = [note(64, 0.8 + 0.35 * i, 0.3) for i in range(6)]
        events = self.heard(notes, "guitar")
        onsets = np.array([e.onset_s for e in events])
        for played in notes:
            self.assertLess(np.abs(onsets - played.onset_s).min(), 0.03)

    def test_low_and_high_instruments_keep_their_octave(self):
        cases = (("tuba", [29, 31, 34, 36, 29]), ("double-bass", [31, 33, 36, 38, 31]), ("piccolo", [86, 88, 91, 93, 98]))
        for slug, pitches in cases:
            with self.subTest(slug=slug):
                notes = [note(p, 0.8 + 0.6 * i, 0.55) for i, p in enumerate(pitches)]
                self.assertEqual([e.midi for e in self.heard(notes, slug) if not e.soft], pitches)

    def test_the_tuning_of_a_take(self):
        for cents in (-38.0, -10.0, 0.0, 22.0):
            notes = [note(60 + p, 0.8 + 0.4 * i, 0.38, cents) for i, p in enumerate((0, 2, 4, 5, 7, 9))]
            features = listen(sound(notes, "clarinet"), BY_SLUG["clarinet"])
            measured, concentration = find_tuning(features)
            self.assertAlmostEqual(measured, cents, delta=6.0)
            self.assertGreater(concentration, 0.6)

    def test_silence_has_no_events(self):
        features = listen(np.zeros(RATE_HZ, dtype=np.float32), BY_SLUG["flute"])
        self.assertEqual(find_events(features, BY_SLUG["flute"], 0.0), [])


class SecondLookTests(SimpleTestCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.notes = [note(60, 0.8, 0.5), note(67, 1.3, 0.5), note(72, 1.8, 0.6)]
        cls.features = listen(sound(cls.notes, "clarinet"), BY_SLUG["clarinet"])
        cls.events = [e for e in find_events(cls.features, BY_SLUG["clarinet"], 0.0) if not e.soft]

    def test_a_pitch_is_present_where_it_sounds_and_nowhere_else(self):
        self.assertTrue(pitch_is_present(self.features, 67, 1.4, 1.7, 0.0, frames=3))
        self.assertFalse(pitch_is_present(self.features, 65, 0.8, 2.3, 0.0, frames=3))

    def test_an_octave_is_confirmed_only_where_it_is(self):
        low, high = self.events[0], self.events[-1]
        self.assertEqual((low.midi, high.midi), (60, 72))
        self.assertTrue(octave_is_confirmed(self.features, high, 60, 0.0))
        self.assertTrue(octave_is_confirmed(self.features, low, 72, 0.0))

    def test_a_lower_octave_that_the_room_holds_is_not_played(self):
        low, high = sound([note(60, 0.5, 0.5)], "clarinet"), sound([note(72, 1.0, 0.6)], "clarinet")
        again = sound([note(60, 1.0, 0.6)], "clarinet")
        length = min(len(low), len(high), len(again))
        fading = 0.35 * again[:length] * np.exp(-4.0 * np.maximum(0.0, np.arange(length) / RATE_HZ - 1.0))
        for second, played in ((high[:length] + fading, False), (again[:length], True)):
            features = listen((low[:length] + second).astype(np.float32), BY_SLUG["clarinet"])
            mistaken = replace(self.events[0], onset_s=1.02, offset_s=1.55, midi=60)
            self.assertIs(octave_is_confirmed(features, mistaken, 72, 0.0), played)

    def test_an_onset_holds_where_the_note_begins(self):
        onset = self.events[1].onset_s
        self.assertTrue(onset_is_confirmed(self.features, 67.0, 60.0, onset, onset - 0.15))
        self.assertFalse(onset_is_confirmed(self.features, 67.0, 60.0, onset + 0.2, onset + 0.02))


class InstrumentTests(SimpleTestCase):
    def test_names_of_scores_are_understood(self):
        cases = {
            "Violoncello": "cello",
            "Contrabass": "double-bass",
            "Clarinet in Bb": "clarinet",
            "Alto Saxophone": "alto-saxophone",
            "Horn in F 1": "horn",
            "Flute 2": "flute",
            "Bassoon": "bassoon",
            "Theremin": "other",
        }
        for name, slug in cases.items():
            self.assertEqual(find_instrument(name).slug, slug, name)

    def test_ranges_and_slugs_make_sense(self):
        self.assertEqual(len({i.slug for i in INSTRUMENTS}), len(INSTRUMENTS))
        for instrument in INSTRUMENTS:
            self.assertLess(instrument.low + 12, instrument.high)
            self.assertTrue(0 <= instrument.program <= 127)
