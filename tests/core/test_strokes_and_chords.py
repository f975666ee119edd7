"""Ears for what has no written pitch: claps, strummed charts, and passages without notation."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import jsonschema
import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis, analyse
from didactor.core.formats.analysis_json import analysis_to_json, schema
from didactor.core.hearing.hearing import Count, ExtraNote, Hearing, NoteHeard, Status
from didactor.core.hearing.under_clicks import all_clicks, doubt_under_clicks
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.score.chords import chord_pitch_classes
from didactor.core.score.expected import Expectation, without_notation
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import TUNE, expectation

RHYTHM = "x:q x:q x:e x:e x:q | x:h x:e x:e x:q | x:q r:q x:q x:q | x:q. x:e x:h"
CHART = (
    "x:q@C x:e x:e x:q x:q | x:q@G x:e x:e x:q x:q | x:q@Am x:e x:e x:q x:q | x:q@F x:e x:e x:q x:q | "
    "x:q@C x:e x:e x:q x:q | x:q@G7 x:e x:e x:q x:q | x:q@C x:e x:e x:q x:q"
)


def heard(
    passage: Expectation, instrument: str, *faults: dict[str, Any], manner: str = "play", judged: Expectation | None = None, **targets: Any
) -> Analysis:
    style = Style(scatter_ms=7.0, wander_percent=0.6)
    take = simulate(
        passage, BY_SLUG[instrument], 84.0, faults=list(faults), style=style, source="additive", room="bedroom", seed=4, manner=manner
    )
    samples = soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
    return analyse(Recording(samples=samples), judged or passage, Targets(tempo_qpm=84.0, instrument=instrument, **targets))


class StrokeTests(SimpleTestCase):
    def setUp(self):
        self.rhythm = expectation(RHYTHM, fifths=0)

    def test_as_many_as_written(self):
        analysis = heard(self.rhythm, "claps")
        self.assertEqual((analysis.findings, analysis.evidence.count.played), ((), len(self.rhythm.notes)))
        self.assertIsNone(analysis.evidence.tuning)

    def test_one_too_many_at_the_end_is_counted(self):
        analysis = heard(self.rhythm, "claps", {"kind": "stroke"})
        self.assertEqual([(f.code, f.size) for f in analysis.findings], [("rhythm.count", 1.0)])

    def test_a_late_stroke_is_late_and_not_missing(self):
        analysis = heard(self.rhythm, "claps", {"kind": "late", "bar": "2", "beat": 2.0, "ms": 160})
        self.assertEqual([(f.code, f.bar) for f in analysis.findings], [("rhythm.placement", "2")])

    def test_what_a_click_covers_is_neither_missing_nor_counted(self):
        written = self.rhythm
        times = [1.0 + n.onset_quarters * 0.6 for n in written.notes]
        sure = [NoteHeard(status=Status.CORRECT, confidence=0.99, onset_s=t, timed=True) for t in times]
        missed, faint = NoteHeard(status=Status.MISSED, confidence=0.9), replace(sure[6], confidence=0.7)
        hearing = Hearing(
            notes=(*sure[:3], missed, *sure[4:6], faint, *sure[7:]),
            extra=(ExtraNote(onset_s=times[9], midi=None, bar="3", pass_=1, beat=0.0),),
            jumps=(),
            seconds_per_quarter=0.6,
            share_of_notes=0.9,
            share_of_sounds=0.9,
            count=Count(written=len(times), played=len(times)),
        )
        self.assertIs(doubt_under_clicks(hearing, written, ()), hearing)
        doubted = doubt_under_clicks(hearing, written, (times[3] + 0.02, times[6], times[9] + 0.005))
        self.assertEqual([i for i, n in enumerate(doubted.notes) if n.status is Status.UNCERTAIN], [3, 6])
        self.assertEqual((doubted.extra, doubted.count), ((), None))
        # Clicks beside the strokes cover nothing.
        beside = doubt_under_clicks(hearing, written, tuple(t + 0.15 for t in times))
        self.assertEqual((beside.notes, beside.count), (hearing.notes, hearing.count))

    def test_a_metronome_among_the_strokes_is_known_by_its_clockwork(self):
        jitter = np.random.default_rng(4).normal(0, 0.014, 8)
        # Near the grid every time, and yet too unsteady for a clock: a steady player.
        steady = 0.008 * np.array([1, -1, 1, 1, -1, -1, 1, -1])
        for scatter, found in ((0.1 * jitter, True), (jitter, False), (steady, False)):
            extra = tuple(
                ExtraNote(onset_s=float(2.0 + 0.602 * k + scatter[k]), midi=None, bar="1", pass_=1, beat=0.0) for k in range(8) if k != 3
            )
            hearing = Hearing(notes=(), extra=extra, jumps=(), seconds_per_quarter=0.6, share_of_notes=0.9, share_of_sounds=0.9)
            clicks = all_clicks(hearing, (), 0.6)
            self.assertEqual(bool(clicks), found)
            if found:
                self.assertLess(abs(clicks[3] - (2.0 + 3 * 0.602)), 0.01)
            self.assertEqual(bool(all_clicks(replace(hearing, extra=extra[:3]), (), 0.6)), False)

    def test_a_melody_may_be_clapped(self):
        analysis = heard(expectation(TUNE), "clarinet", {"kind": "missed", "bar": "6", "beat": 1.0}, manner="clap", step="clap")
        self.assertEqual([(f.code, f.bar) for f in analysis.findings if f.code == "notes.missed"], [("notes.missed", "6")])
        self.assertIn("stroke", analysis.findings[-1].text + analysis.findings[0].text)


class ChordTests(SimpleTestCase):
    def setUp(self):
        self.chart = expectation(CHART, fifths=0)

    def test_symbols_are_read(self):
        self.assertEqual([c.text for c in self.chart.chords], ["C", "G", "Am", "F", "C", "G7", "C"])
        self.assertEqual(chord_pitch_classes("F#m7"), (6, 9, 1, 4))
        with self.assertRaisesMessage(ValueError, "not a chord"):
            chord_pitch_classes("H13")

    def test_a_chart_played_as_written(self):
        analysis = heard(self.chart, "guitar", manner="strum", step="chords")
        self.assertEqual([f.text for f in analysis.findings], [])
        self.assertEqual({c.status for c in analysis.evidence.chords}, {Status.CORRECT})
        jsonschema.validate(analysis_to_json(analysis), schema())

    def test_a_chord_that_comes_late_is_one_remark(self):
        late = [{"kind": "chord", "note": i, "chord": "G"} for i in (10, 11)]
        analysis = heard(self.chart, "guitar", *late, manner="strum", step="chords")
        self.assertEqual([(f.code, f.bar, f.size) for f in analysis.findings], [("chords.wrong", "3", 2.0)])
        self.assertEqual({c.heard for c in analysis.evidence.chords if c.status is Status.WRONG_PITCH}, {"G"})


class WithoutNotationTests(SimpleTestCase):
    def test_a_take_that_is_longer_or_shorter_than_the_line_is_told_so(self):
        for bars, told in ((4, ["flow.length"]), (9, []), (14, ["flow.length"])):
            with self.subTest(bars=bars):
                analysis = heard(expectation(TUNE), "clarinet", judged=without_notation(bars, 4, 4), step="pulse")
                self.assertEqual([f.code for f in analysis.findings], told)
        [finding] = analysis.findings
        self.assertIn("this passage has 14", finding.text)

    def test_a_slow_take_of_the_whole_line_is_slow_and_not_too_long(self):
        slow = {"kind": "tempo", "factor": 0.7}
        analysis = heard(expectation(TUNE), "clarinet", slow, judged=without_notation(9, 4, 4), step="pulse")
        self.assertEqual([f.code for f in analysis.findings], ["tempo.off_target"])

    def test_tempo_and_tuning_are_measured_and_no_note_is_blamed(self):
        blank = without_notation(9, 4, 4)
        analysis = heard(expectation(TUNE), "clarinet", {"kind": "tempo", "factor": 1.2}, judged=blank, step="pulse")
        self.assertAlmostEqual(analysis.evidence.tempo.played_qpm, 84.0 * 1.2, delta=1.0)
        self.assertEqual([f.code for f in analysis.findings], ["tempo.off_target"])
        result = analysis_to_json(analysis)
        jsonschema.validate(result, schema())
        self.assertIsNone(result["notes"])
