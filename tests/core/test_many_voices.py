"""The ear for many voices: two hands and guitar parts by the simulated player, with known faults."""

from __future__ import annotations

from functools import cache
from typing import Any

import jsonschema
import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis, analyse
from didactor.core.formats.analysis_json import analysis_to_json, schema
from didactor.core.hearing.hearing import Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation, expect
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording

UPPER = (
    "E5:q!p D5:q C5:q G5:q | F5:h E5:q D5:q | C5+E5:q D5+F5:q E5+G5:q C5:q | D5:h. r:q | "
    "G5:q!f F5:q E5:q C5:q | A5:h G5:q E5:q | F5:q E5:q D5:q B4:q | C5:w"
)
LOWER = (
    "C3:e G3:e E3:e G3:e C3:e G3:e E3:e G3:e | G2:h B2:h | C3+E3+G3:h A2+E3:h | G2:q D3:q G2:h | "
    "C3:e G3:e E3:e G3:e C3:e G3:e E3:e G3:e | F2:h C3:h | G2:q D3:q F3:q G2:q | C3+E3:w"
)


@cache
def two_hands() -> Expectation:
    return expect(read(prepare(write_musicxml([Line(text=UPPER, lower=LOWER, name="Piano")]))).parts[0])


def heard(*faults: dict[str, Any], source: str = "timgm", seed: int = 5, **targets: Any) -> Analysis:
    style = Style(scatter_ms=7.0, wander_percent=0.6)
    take = simulate(two_hands(), BY_SLUG["piano"], 88.0, faults=list(faults), style=style, source=source, room="bedroom", seed=seed)
    samples = soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
    return analyse(Recording(samples=samples), two_hands(), Targets(tempo_qpm=88.0, instrument="piano", **targets))


def index_of(bar: str, beat: float, pitch: str) -> int:
    return next(i for i, n in enumerate(two_hands().notes) if (n.bar, n.beat, n.written_pitch) == (bar, beat, pitch))


class ManyVoicesTests(SimpleTestCase):
    def test_a_clean_take_is_right_in_every_note(self):
        for source in ("timgm", "additive"):
            with self.subTest(source=source):
                analysis = heard(source=source)
                self.assertEqual([f.text for f in analysis.findings], [])
                right = [n.status is Status.CORRECT for n in analysis.evidence.notes]
                self.assertGreaterEqual(np.mean(right), 0.98)
                self.assertAlmostEqual(analysis.evidence.tempo.played_qpm, 88.0, delta=0.5)

    def test_faults_of_either_hand_are_named(self):
        analysis = heard(
            {"kind": "wrong", "note": index_of("2", 2.0, "B2"), "semitones": 1},
            {"kind": "missed", "note": index_of("6", 2.0, "G5")},
            {"kind": "missed", "note": index_of("3", 2.0, "A2")},
        )
        said = {(f.code, f.bar) for f in analysis.findings}
        self.assertEqual(said, {("notes.wrong", "2"), ("notes.missed", "6"), ("notes.missed", "3")})
        wrong = next(n for n in analysis.evidence.notes if n.status is Status.WRONG_PITCH)
        self.assertEqual(wrong.heard_midi, 48)

    def test_a_neighbouring_key_struck_as_well_is_extra(self):
        analysis = heard({"kind": "extra", "note": index_of("7", 1.0, "E5"), "semitones": -1, "share": 0.0})
        self.assertEqual([(e.midi, e.bar) for e in analysis.evidence.extra], [(75, "7")])

    def test_hands_apart_are_one_remark_and_measured(self):
        analysis = heard({"kind": "hand", "staff": 2, "ms": 70})
        self.assertEqual([f.code for f in analysis.findings], ["hands.apart"])
        left = next(h for h in analysis.evidence.hands if h.staff == 2)
        self.assertAlmostEqual(left.asynchrony_ms, 70, delta=12)

    def test_flow_is_followed_through_both_hands(self):
        analysis = heard({"kind": "hesitation", "note": index_of("5", 0.0, "C3"), "beats": 2})
        self.assertEqual([(f.code, f.bar) for f in analysis.findings], [("flow.hesitation", "5")])
        analysis = heard({"kind": "skip", "note": index_of("4", 0.0, "G2"), "bars": 1})
        self.assertEqual([(f.code, f.bar) for f in analysis.findings], [("flow.skipped", "4")])
        self.assertAlmostEqual(analysis.evidence.tempo.played_qpm, 88.0, delta=1.0)

    def test_a_melody_under_its_accompaniment_is_told(self):
        [finding] = heard({"kind": "covered", "velocity": 50}, source="additive").findings
        self.assertEqual(finding.code, "dynamics.upper_voice")
        leading = heard(source="additive").evidence.hands[0].balance_db
        self.assertGreater(leading - finding.size, 8)

    def test_loud_and_soft_alike(self):
        self.assertEqual([f.code for f in heard({"kind": "flat"}).findings], ["dynamics.flat"])

    def test_results_follow_the_schema(self):
        result = analysis_to_json(heard({"kind": "wrong", "note": 9, "semitones": 2}))
        jsonschema.validate(result, schema())
        self.assertEqual([h["staff"] for h in result["hands"]], [1, 2])
        self.assertEqual([z["marked"] for z in result["loudness"]["zones"]], ["p", "f"])

    def test_a_note_left_to_choice_is_not_missing(self):
        note = two_hands().notes[index_of("6", 2.0, "G5")]
        analysis = heard({"kind": "missed", "note": index_of("6", 2.0, "G5")}, optional=(note.id,))
        self.assertEqual(analysis.findings, ())

    def test_neighbouring_moments_missed_are_missed_and_nothing_dies(self):
        faults = [{"kind": "missed", "note": i} for i, n in enumerate(two_hands().notes) if n.bar == "6" and n.beat in (2.0, 3.0)]
        analysis = heard(*faults)
        missed = {i for i, n in enumerate(analysis.evidence.notes) if n.status is Status.MISSED}
        self.assertEqual(missed, {f["note"] for f in faults})

    def test_another_right_note_is_right(self):
        upper, lower = index_of("2", 0.0, "F5"), index_of("8", 0.0, "C3")
        faults = [{"kind": "wrong", "note": upper, "semitones": 4}, {"kind": "wrong", "note": lower, "semitones": 12}]
        notes = two_hands().notes
        self.assertLessEqual({"notes.wrong"}, {f.code for f in heard(*faults).findings})
        choices = {notes[upper].id: (notes[upper].sounding_midi + 4,), notes[lower].id: (notes[lower].sounding_midi + 12,)}
        analysis = heard(*faults, alternatives=choices)
        self.assertEqual([f.text for f in analysis.findings], [])
        self.assertEqual([analysis.evidence.notes[i].status for i in (upper, lower)], [Status.CORRECT] * 2)
        self.assertEqual(analysis.evidence.notes[upper].heard_midi, notes[upper].sounding_midi + 4)
