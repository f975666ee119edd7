"""Many voices: a missing key and another one struck in its moment are one fault."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from didactor.core.hearing.extra_keys import with_wrong_ones
from didactor.core.hearing.features import level_of, short_time
from didactor.core.hearing.groups import Strike
from didactor.core.hearing.hearing import ExtraNote, NoteHeard, Status
from didactor.core.hearing.many_voices import laid_over
from didactor.core.hearing.note_model import Posteriors
from didactor.core.hearing.presence import Evidence
from didactor.core.hearing.spectrum import spectrum
from didactor.core.sound.recording import RATE_HZ
from tests.core.test_many_voices import index_of, two_hands

PER_QUARTER_S = 0.6
NOISE = np.random.default_rng(5).normal(0.0, 0.05, 24 * RATE_HZ).astype(np.float32)


class OneFaultEachTests(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        evidence = Evidence(
            posteriors=Posteriors(NOISE),
            spectrum=spectrum(short_time(NOISE)),
            tuning_cents=0.0,
            typical_onset=0.5,
            typical_sounding=0.5,
        )
        strikes = [
            Strike(time_s=0.5 + PER_QUARTER_S * n.onset_quarters, midi=n.sounding_midi, strength=0.9, rise=1.0) for n in two_hands().notes
        ]
        strikes.sort(key=lambda s: s.time_s)
        cls.take = laid_over(strikes, evidence, level_of(NOISE), two_hands(), PER_QUARTER_S)
        # The chord of C3, E3 and G3 under C5 and E5 at the beginning of bar 3.
        cls.chord = {pitch: index_of("3", 0.0, pitch) for pitch in ("C3", "E3", "G3", "C5", "E5")}
        cls.at_s = 0.5 + PER_QUARTER_S * two_hands().notes[cls.chord["C3"]].onset_quarters

    def told(self, missing: tuple[str, ...], struck: dict[int, float]) -> tuple[dict[str, int | None], list[int]]:
        """The chord's wrong notes with the key struck instead, and what stays extra. ``struck``: key to delay (s)."""
        notes = [NoteHeard(status=Status.CORRECT, confidence=0.9)] * len(two_hands().notes)
        for pitch in missing:
            notes[self.chord[pitch]] = NoteHeard(status=Status.MISSED, confidence=0.8, stretch=0)
        extra = [ExtraNote(onset_s=self.at_s + later, midi=midi, bar="3", pass_=1, beat=0.0) for midi, later in sorted(struck.items())]
        found, left = with_wrong_ones(self.take, notes, extra)
        wrong = {p: found[i].heard_midi for p, i in self.chord.items() if found[i].status is Status.WRONG_PITCH}
        unchanged = [n for k, n in enumerate(found) if n.status is not Status.WRONG_PITCH]
        self.assertEqual(unchanged, [n for k, n in enumerate(notes) if found[k].status is not Status.WRONG_PITCH])
        return wrong, [e.midi for e in left]

    def test_a_key_beside_a_missing_one_is_that_one_struck_wrong(self):
        self.assertEqual(self.told(("E3",), {51: 0.02}), ({"E3": 51}, []))

    def test_of_several_missing_ones_the_nearest_is_meant(self):
        self.assertEqual(self.told(("C3", "G3"), {54: 0.0}), ({"G3": 54}, []))
        self.assertEqual(self.told(("C3", "G3"), {47: 0.0, 54: 0.0}), ({"C3": 47, "G3": 54}, []))

    def test_one_missing_note_stands_for_one_key_only(self):
        self.assertEqual(self.told(("E3",), {51: 0.0, 53: 0.01}), ({"E3": 51}, [53]))

    def test_what_is_far_off_in_pitch_or_time_stays_an_extra_note(self):
        self.assertEqual(self.told(("E3",), {65: 0.0}), ({}, [65]))
        self.assertEqual(self.told(("E3",), {64: 0.0}), ({"E3": 64}, []))
        self.assertEqual(self.told(("E3",), {51: 0.15}), ({}, [51]))

    def test_where_nothing_is_missing_it_is_an_extra_note(self):
        self.assertEqual(self.told((), {51: 0.0}), ({}, [51]))

    def test_the_wrong_note_keeps_where_it_stands_and_gets_when_it_was_struck(self):
        notes = [NoteHeard(status=Status.CORRECT, confidence=0.9)] * len(two_hands().notes)
        notes[self.chord["E3"]] = NoteHeard(status=Status.MISSED, confidence=0.8, stretch=3)
        extra = ExtraNote(onset_s=self.at_s + 0.03, midi=51, bar="3", pass_=1, beat=0.0)
        found = with_wrong_ones(self.take, notes, [extra])[0][self.chord["E3"]]
        self.assertEqual(replace(found, offset_s=None), replace(found, offset_s=None, onset_s=self.at_s + 0.03, confidence=0.8, stretch=3))
        self.assertGreaterEqual(found.offset_s, found.onset_s)
