"""The ear on synthesised takes with known faults: what is there is found, what is not is not said."""

from __future__ import annotations

import jsonschema
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis, analyse
from didactor.core.formats.analysis_json import analysis_to_json, schema
from didactor.core.hearing.hearing import Status
from didactor.core.judging.targets import Targets
from didactor.core.sound.recording import Recording
from tests.music import TUNE, expectation, played


def heard(
    *faults: dict, instrument: str = "clarinet", tempo: float = 92.0, recording: Recording | None = None, **targets: object
) -> Analysis:
    recording = recording or played(*faults, instrument=instrument, tempo=tempo)
    return analyse(recording, expectation(TUNE), Targets(tempo_qpm=tempo, instrument=instrument, **targets))  # type: ignore[arg-type]


def codes(analysis: Analysis) -> list[str]:
    return [f.code for f in analysis.findings]


class CleanTakeTests(SimpleTestCase):
    def test_nothing_is_said_of_a_clean_take(self):
        for instrument in ("flute", "violin", "clarinet", "horn", "cello", "guitar"):
            with self.subTest(instrument=instrument):
                analysis = heard(instrument=instrument)
                self.assertEqual([f.text for f in analysis.findings], [])
                self.assertAlmostEqual(analysis.evidence.tempo.played_qpm, 92.0, delta=0.6)

    def test_results_follow_the_schema_usable_or_not(self):
        jsonschema.validate(analysis_to_json(heard()), schema())
        result = analysis_to_json(heard(recording=Recording(samples=played().samples[:8000])))
        jsonschema.validate(result, schema())
        self.assertEqual((result["audio"]["quality"]["verdict"], result["notes"], result["findings"]), ("unusable", None, None))


class FaultTests(SimpleTestCase):
    def only(self, analysis: Analysis, code: str, bar: str | None = None):
        self.assertEqual([(f.code, f.bar) for f in analysis.findings], [(code, bar)], [f.text for f in analysis.findings])
        return analysis.findings[0]

    def test_wrong_note(self):
        finding = self.only(heard({"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 1}), "notes.wrong", "6")
        self.assertEqual((finding.size, finding.text), (1.0, "Bar 6, beat 1: E is written, F is played."))

    def test_missed_note(self):
        self.only(heard({"kind": "missed", "bar": "7", "beat": 1.0}), "notes.missed", "7")

    def test_extra_note(self):
        self.only(heard({"kind": "extra", "bar": "7", "beat": 2.0, "semitones": 4}), "notes.extra", "7")

    def test_late_and_early_notes_with_their_size(self):
        finding = self.only(heard({"kind": "late", "bar": "7", "beat": 1.0, "ms": 170}), "rhythm.placement", "7")
        self.assertAlmostEqual(finding.size, 170, delta=35)
        finding = self.only(heard({"kind": "early", "bar": "7", "beat": 1.0, "ms": 170}), "rhythm.placement", "7")
        self.assertAlmostEqual(finding.size, -170, delta=35)

    def test_hesitation_with_its_seconds(self):
        finding = self.only(heard({"kind": "hesitation", "bar": "6", "beat": 0.0, "beats": 2.0}), "flow.hesitation", "6")
        self.assertAlmostEqual(finding.size, 2 * 60 / 92, delta=0.12)

    def test_restart(self):
        self.only(heard({"kind": "restart", "bar": "6", "beat": 0.0, "bars": 1}), "flow.restart", "5")

    def test_skipped_bar(self):
        analysis = heard({"kind": "skip", "bar": "6", "beat": 0.0, "bars": 1})
        self.assertEqual(analysis.evidence.skipped_bars, (("6", 1),))
        self.assertIn("flow.skipped", codes(analysis))

    def test_note_out_of_tune(self):
        finding = self.only(heard({"kind": "detuned", "bar": "7", "beat": 2.0, "cents": -50}), "intonation.note", "7")
        self.assertAlmostEqual(finding.size, -50, delta=12)

    def test_a_flat_instrument_is_one_remark(self):
        finding = self.only(heard({"kind": "tuning", "cents": -35}), "intonation.tuning")
        self.assertAlmostEqual(finding.size, -35, delta=5)

    def test_keys_cannot_be_out_of_tune_note_by_note(self):
        analysis = heard({"kind": "detuned", "bar": "7", "beat": 2.0, "cents": -50}, instrument="guitar")
        self.assertNotIn("intonation.note", codes(analysis))

    def test_an_octave_lower_throughout_is_one_remark(self):
        self.only(heard({"kind": "octave", "octaves": -1}, instrument="cello"), "notes.transposed")

    def test_tempo_and_drift(self):
        fast = heard({"kind": "tempo", "factor": 1.12})
        self.assertEqual(codes(fast), ["tempo.off_target"])
        self.assertAlmostEqual(fast.findings[0].size, 12, delta=0.6)
        self.assertIn("tempo.drift", codes(heard({"kind": "drift", "percent": 2.2})))

    def test_several_faults_do_not_hide_one_another(self):
        analysis = heard(
            {"kind": "wrong", "bar": "1", "beat": 3.0, "semitones": -2},
            {"kind": "hesitation", "bar": "5", "beat": 0.0, "beats": 1.5},
            {"kind": "missed", "bar": "7", "beat": 2.0},
        )
        self.assertEqual(sorted(codes(analysis)), ["flow.hesitation", "notes.missed", "notes.wrong"])


class StageTests(SimpleTestCase):
    def test_first_reading_judges_notes_and_forgives_time(self):
        faults = ({"kind": "hesitation", "bar": "6", "beat": 0.0, "beats": 2.0}, {"kind": "wrong", "bar": "7", "beat": 1.0, "semitones": 2})
        analysis = heard(*faults, stage="first_reading")
        self.assertEqual(codes(analysis), ["notes.wrong"])
        self.assertEqual(len(analysis.evidence.hesitations), 1)
        self.assertIsNone(analysis.evidence.tempo.verdict)
        self.assertTrue(all(n.early_late_ms is None for n in analysis.evidence.notes))

    def test_steady_forgives_slow_but_not_fast(self):
        self.assertEqual(codes(heard({"kind": "tempo", "factor": 0.8}, stage="steady")), [])
        self.assertEqual(codes(heard({"kind": "tempo", "factor": 1.15}, stage="steady")), ["tempo.off_target"])

    def test_a_range_of_tempi(self):
        self.assertEqual(codes(heard({"kind": "tempo", "factor": 1.12}, tempo_to_qpm=110.0)), [])


class AbstainingTests(SimpleTestCase):
    def test_another_piece_is_not_judged(self):
        other = "E4:h G4:h | C5:e B4:e A4:e G4:e F4:h | D4:q. E4:e F4:q B4:q | C5:w | G4:q E4:q C4:q E4:q | A4:h F4:h | Bb4:w"
        analysis = heard(recording=played(text=other, tempo=80.0))
        self.assertIsNone(analysis.evidence)
        self.assertIn("another_piece", [p.code for p in analysis.quality.problems])

    def test_a_repeat_that_is_not_heard_apart_is_not_called_missed(self):
        analysis = heard({"kind": "missed", "bar": "5", "beat": 1.0}, {"kind": "cut", "bar": "5", "beat": 0.0, "share": 2.3})
        note = next(n for n in analysis.evidence.notes if n.note.bar == "5" and n.note.beat == 1.0)
        self.assertIn(note.status, (Status.UNCERTAIN, Status.CORRECT))
        self.assertNotIn("notes.missed", codes(analysis))
