"""Words for places and pitches, units, stages and targets."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from didactor.core import units
from didactor.core.errors import PassageError
from didactor.core.judging.stages import STAGES
from didactor.core.judging.targets import Targets
from didactor.core.judging.words import beat_in_words, heard_in_words, midi_in_words, pitch_in_words, place_in_words
from tests.music import TUNE, expectation


class UnitTests(SimpleTestCase):
    def test_pitches_have_both_forms(self):
        for step, alter, octave, midi, name in (
            ("C", 0, 4, 60, "C4"),
            ("B", -1, 3, 58, "Bb3"),
            ("F", 1, 5, 78, "F#5"),
            ("E", -2, 4, 62, "Ebb4"),
        ):
            self.assertEqual(units.pitch_to_midi(step, alter, octave), midi)
            self.assertEqual(units.pitch_to_name(step, alter, octave), name)

    def test_frequencies_there_and_back(self):
        self.assertAlmostEqual(units.hz_to_midi(440.0), 69.0)
        self.assertAlmostEqual(units.midi_to_hz(60), 261.626, places=3)
        back = units.hz_to_midi(np.array([units.midi_to_hz(m) for m in range(21, 109)]))
        self.assertTrue(np.allclose(back, np.arange(21, 109)))
        self.assertAlmostEqual(units.hz_to_midi(442.0, a4_hz=442.0), 69.0)

    def test_tempi_in_every_beat_unit(self):
        for unit, quarters in units.BEAT_UNIT_QUARTERS.items():
            qpm = units.beats_to_quarters_per_minute(60, unit)
            self.assertAlmostEqual(qpm, 60 * quarters)
            self.assertAlmostEqual(units.quarters_to_beats_per_minute(qpm, unit), 60)

    def test_silence_has_a_floor(self):
        self.assertEqual(units.amplitude_to_db(0.0), -120.0)
        self.assertAlmostEqual(units.amplitude_to_db(0.5), -6.02, places=2)


class WordTests(SimpleTestCase):
    def test_beats_are_counted_from_one_in_the_metre(self):
        cases = (
            (0.0, 1.0, "1"),
            (1.5, 1.0, "2½"),
            (0.25, 1.0, "1¼"),
            (1 / 3, 1.0, "1⅓"),
            (1.5, 1.5, "2"),
            (2.0, 1.5, "2⅓"),
            (0.4, 1.0, "1.4"),
        )
        for position, beat, words in cases:
            self.assertEqual(beat_in_words(position, beat), words)

    def test_pitches_are_spelled_out(self):
        self.assertEqual([pitch_in_words(p) for p in ("C4", "Eb5", "F#3", "Gbb2")], ["C", "E flat", "F sharp", "G double flat"])
        self.assertEqual([midi_in_words(63, fifths) for fifths in (-3, 0, 1, 4)], ["E flat", "E flat", "E flat", "D sharp"])
        self.assertEqual([midi_in_words(60, fifths) for fifths in (0, 7)], ["C", "B sharp"])
        self.assertEqual(midi_in_words(70), "B flat")

    def test_a_transposing_player_is_told_written_names(self):
        note = expectation(TUNE, transposition=-2).notes[0]
        self.assertEqual((note.written_pitch, heard_in_words(note.sounding_midi + 2, note, 2)), ("A4", "B"))

    def test_an_octave_is_called_an_octave(self):
        note = expectation(TUNE).notes[0]
        self.assertEqual(heard_in_words(note.sounding_midi - 12, note, 2), "A an octave lower")

    def test_the_pass_is_named_only_where_a_bar_comes_again(self):
        repeated = expectation("C4:w | |: D4:w :| E4:w", fifths=0)
        self.assertEqual(place_in_words(repeated, repeated.notes[2]), "Bar 2 (second time), beat 1")
        self.assertEqual(place_in_words(repeated, repeated.notes[0]), "Bar 1, beat 1")


class TargetTests(SimpleTestCase):
    def test_stages_give_their_band_and_a_target_may_set_its_own(self):
        self.assertEqual(Targets(tempo_qpm=80, stage="final").band, 4.0)
        self.assertEqual(Targets(tempo_qpm=80, stage="final", band_percent=9.0).band, 9.0)

    def test_strictness_grows_from_steady_to_final(self):
        floors = {s.slug: s.placement.floor_ms for s in STAGES if s.placement}
        self.assertGreater(floors["steady"], floors["at_tempo"])
        self.assertGreater(floors["at_tempo"], floors["final"])
        self.assertIsNone(next(s for s in STAGES if s.slug == "first_reading").placement)

    def test_targets_survive_freezing(self):
        targets = Targets(tempo_qpm=72, tempo_to_qpm=80, stage="steady", instrument="cello", beat_unit="half", bars="1-8")
        self.assertEqual(Targets.from_json({**targets.to_json(), "added_later": 1}), targets)
        self.assertEqual(targets.middle_qpm, 76)
        self.assertEqual(targets.in_words(72), "half = 36")

    def test_impossible_targets_are_refused_with_words(self):
        good = Targets(tempo_qpm=80)
        cases = {
            "no stage": {"stage": "asleep"},
            "not playable": {"tempo_qpm": 5000.0},
            "below the lower": {"tempo_to_qpm": 60.0},
            "between 0 and 60": {"band_percent": 99.0},
            "no beat unit": {"beat_unit": "crotchet rest"},
        }
        for words, change in cases.items():
            with self.subTest(words=words), self.assertRaisesMessage(PassageError, words):
                replace(good, **change)
        with self.assertRaisesMessage(PassageError, "tempo_qpm"):
            Targets.from_json({"stage": "steady"})
