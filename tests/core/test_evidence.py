"""The evidence behind one note: where it is looked for, what is drawn, what is heard of it."""

from __future__ import annotations

import io
from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase
from lxml import etree
from scipy.io import wavfile

from didactor.core.analyse import analyse
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.evidence import as_written, evidence_in_words, place_of
from didactor.core.formats.evidence_drawing import draw_evidence
from didactor.core.hearing.close_up import FLOOR_DB, close_up
from didactor.core.hearing.hearing import Status
from didactor.core.judging.targets import Targets
from didactor.core.sound.playback import encode_playback, read_stretch
from didactor.core.sound.recording import RATE_HZ
from tests.music import expectation, played

WRONG = {"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2}


class EvidenceTests(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.recording = played(WRONG)
        cls.result = result_of(analyse(cls.recording, expectation(), Targets(tempo_qpm=92.0, instrument="clarinet")))
        cls.index = next(i for i, n in enumerate(cls.result.notes) if n.status == "wrong_pitch")
        cls.place = place_of(cls.result, cls.index)

    def stretch(self) -> np.ndarray:
        first, last = (int(t * RATE_HZ) for t in (self.place.start_s, self.place.end_s))
        return self.recording.samples[first:last]

    def test_the_place_is_between_what_was_due_and_what_was_heard(self):
        self.assertEqual(self.place.heard_midi - self.place.written_midi, 2)
        self.assertAlmostEqual(self.place.due_s, self.place.onset_s, delta=0.05)
        self.assertTrue(self.place.start_s < self.place.due_s < self.place.end_s)

    def test_the_loudest_pitch_at_the_note_is_the_one_that_was_heard(self):
        view = close_up(self.stretch(), self.place.start_s, self.place.low_midi, self.place.high_midi)
        column = int((self.place.onset_s + 0.15 - view.start_s) / (view.end_s - view.start_s) * view.levels_db.shape[1])
        loudest = view.low_midi + (int(np.argmax(view.levels_db[:, column])) + 0.5) / 2
        self.assertAlmostEqual(loudest, self.place.heard_midi, delta=0.6)
        self.assertGreaterEqual(view.levels_db.min(), FLOOR_DB)

    def test_the_drawing_shows_frame_line_and_ink(self):
        view = close_up(self.stretch(), self.place.start_s, self.place.low_midi, self.place.high_midi)
        root = etree.fromstring(draw_evidence(view, self.place))
        classes = {e.get("class") for e in root.iter()}
        self.assertTrue({"written", "heard", "due", "onset", "shade-5"} <= classes)
        by_class = {e.get("class"): e for e in root.iter()}
        self.assertLess(float(by_class["heard"].get("y1")), float(by_class["written"].get("y")))

    def test_as_written_lasts_as_long_as_what_is_shown(self):
        rate, sound = wavfile.read(io.BytesIO(as_written(self.result, self.place)))
        self.assertAlmostEqual(len(sound) / rate, self.place.end_s - self.place.start_s, delta=0.01)
        self.assertGreater(np.abs(sound).max(), 1000)

    def test_words_name_both_pitches_and_missing_notes_have_evidence_too(self):
        words = dict(evidence_in_words(self.result, self.index, self.place))
        self.assertEqual((words["Written"], words["Heard"]), ("E", "F sharp"))
        note = replace(self.result.notes[self.index], heard_midi=75 + self.place.transposition)
        notes = tuple(note if i == self.index else n for i, n in enumerate(self.result.notes))
        for key, name in (
            ({"F#": "F", "C#": "C", "B": "Bb", "E": "Eb", "A": "Ab"}, "E flat"),
            ({"G": "G#", "D": "D#", "A": "A#"}, "D sharp"),
        ):
            written = (replace(n, written_pitch=key.get(n.written_pitch[:-1], n.written_pitch[:-1]) + n.written_pitch[-1]) for n in notes)
            words = dict(evidence_in_words(replace(self.result, notes=tuple(written)), self.index, self.place))
            self.assertEqual(words["Heard"], name)
        notes = list(self.result.notes)
        notes[self.index] = replace(notes[self.index], status=Status.MISSED, onset_s=None, heard_midi=None, early_late_ms=None)
        result = replace(self.result, notes=tuple(notes))
        self.assertNotIn("How sure", dict(evidence_in_words(self.result, self.index, self.place, figures=False)))
        place = place_of(result, self.index)
        self.assertAlmostEqual(place.due_s, self.place.due_s, delta=0.08)
        self.assertIn("nothing", dict(evidence_in_words(result, self.index, place))["Heard"])

    def test_a_stretch_of_the_copy_is_the_same_stretch_of_the_original(self):
        about, body = encode_playback(np.asarray(self.recording.samples))
        copy = read_stretch(io.BytesIO(body), self.place.start_s, self.place.end_s, about["delay_s"])
        original = self.stretch()[: len(copy)]
        self.assertGreater(np.corrcoef(copy[: len(original)], original)[0, 1], 0.95)
        self.assertEqual(float(np.abs(read_stretch(io.BytesIO(body), 9000.0, 9001.0, 0.0)).max()), 0.0)
