"""The drawn score: every sign at its place, nothing on what is right."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

import numpy as np
import soxr
from django.test import SimpleTestCase
from lxml import etree

from didactor.core.analyse import analyse
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.lanes import View, plain_score, score_with_lanes
from didactor.core.formats.result import BendHeard
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from didactor.core.score.open import engrave_isolated
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.write.engraving import Engraving
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import TUNE, expectation, musicxml, played

SVG = "{http://www.w3.org/2000/svg}"


class LaneTests(SimpleTestCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.prepared = prepare(musicxml())
        cls.drawings: dict[str, Engraving] = engrave_isolated(cls.prepared, 1, None)
        cls.numbers = {bar.id: bar.number for bar in read(cls.prepared).parts[0].bars}

    def drawn(self, *faults: dict[str, Any], layout: str = "desk", stage: str = "at_tempo") -> etree._Element:
        analysis = analyse(played(*faults), expectation(TUNE), Targets(tempo_qpm=92.0, instrument="clarinet", stage=stage))
        result = result_of(analysis)
        view = View(lanes=("placement", "pitch", "tempo"), bar_numbers=self.numbers)
        engraving = self.drawings[layout]
        return etree.fromstring(score_with_lanes(engraving.svg, engraving.geometry, result, view).encode())

    def of(self, root: etree._Element, *classes: str) -> list[etree._Element]:
        return [e for e in root.iter() if set(classes) <= set((e.get("class") or "").split())]

    def note_place(self, bar: str, beat: float) -> dict[str, float]:
        note = next(n for n in expectation(TUNE).notes if n.bar == bar and n.beat == beat)
        return self.drawings["desk"].geometry["notes"][note.id]

    def test_a_clean_take_carries_no_mark(self):
        root = self.drawn()
        self.assertEqual(self.of(root, "mark") + self.of(root, "flagged") + self.of(root, "break"), [])
        self.assertGreaterEqual(len(self.of(root, "lane-placement")), 1)
        self.assertEqual(len(self.of(root, "dot")) > 40, True)

    def test_a_wrong_note_is_a_ghost_at_the_heard_pitch(self):
        root = self.drawn({"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 1})
        [ghost] = self.of(root, "ghost")
        place = self.note_place("6", 0.0)
        x, y = (float(v) for v in re.search(r"translate\(([-\d.]+), ([-\d.]+)\)", ghost.get("transform", "")).groups())
        # E is written and F heard: one step up is half the distance of two staff lines.
        self.assertEqual((x > place["x"], round(place["y"] - y)), (True, 90))

    def test_a_missed_note_is_circled(self):
        root = self.drawn({"kind": "missed", "bar": "7", "beat": 1.0})
        [circle] = self.of(root, "missed")
        place = self.note_place("7", 1.0)
        self.assertEqual((float(circle.get("cx")), float(circle.get("cy"))), (place["x"], place["y"]))

    def test_late_is_right_and_early_is_left_to_scale(self):
        for kind, sign in (("late", 1), ("early", -1)):
            root = self.drawn({"kind": kind, "bar": "7", "beat": 1.0, "ms": 170})
            [dot] = self.of(root, "lane-placement")[-1].findall(f"{SVG}circle[@class='dot flagged']")
            shift = float(dot.get("cx")) - self.note_place("7", 1.0)["x"]
            self.assertTrue(200 < sign * shift < 380, shift)

    def test_flat_hangs_below_the_line(self):
        root = self.drawn({"kind": "detuned", "bar": "7", "beat": 2.0, "cents": -50})
        [dot] = [d for lane in self.of(root, "lane-pitch") for d in lane.findall(f"{SVG}circle[@class='dot flagged']")]
        axis = dot.getparent().find(f"{SVG}line[@class='axis']")
        self.assertGreater(float(dot.get("cy")), float(axis.get("y1")) + 90)

    def test_a_pause_breaks_the_curve_and_tells_its_seconds(self):
        root = self.drawn({"kind": "hesitation", "bar": "7", "beat": 2.0, "beats": 2.0})
        [words] = self.of(root, "seconds")
        self.assertRegex(words.text, r"1\.[23] s")
        self.assertGreater(len(self.of(root, "curve")), len(self.of(self.drawn(), "curve")))

    def test_bars_that_bend_stand_under_one_bracket(self):
        self.assertEqual(self.of(self.drawn(), "bend"), [])
        analysis = analyse(played(), expectation(TUNE), Targets(tempo_qpm=92.0, instrument="clarinet"))
        result = result_of(analysis)
        curve = result.tempo.curve
        bent = [p for p in curve if p.bar in ("5", "6")]
        bend = BendHeard(from_bar="5", to_bar="6", pass_=1, share=0.8, start_s=bent[0].time_s, end_s=bent[-1].time_s)
        result = replace(result, pulse=replace(result.pulse, bends=(bend,)))
        view = View(lanes=("tempo",), bar_numbers=self.numbers)
        engraving = self.drawings["phone"]
        root = etree.fromstring(score_with_lanes(engraving.svg, engraving.geometry, result, view).encode())
        found = self.of(root, "bend")
        self.assertEqual({e.find(f"{SVG}text").text for e in found}, {"broadens"})
        # On a narrow page it may lie on two systems: each has its own bars under it, and no more.
        systems = {int(bar["system"]) for i, bar in self.drawings["phone"].geometry["bars"].items() if self.numbers[i] in ("5", "6")}
        self.assertEqual(len(found), len(systems))

    def test_a_lane_without_anything_judged_is_not_drawn(self):
        root = self.drawn(stage="first_reading")
        self.assertEqual(self.of(root, "lane-placement"), [])
        self.assertNotEqual(self.of(root, "lane-pitch"), [])

    def test_the_page_grows_for_the_lanes_and_not_without_them(self):
        engraving = self.drawings["phone"]
        height = float(re.search(r'viewBox="[-\d.]+ [-\d.]+ [\d.]+ ([\d.]+)"', engraving.svg)[1])
        plain = etree.fromstring(plain_score(engraving.svg, engraving.geometry, self.numbers).encode())
        self.assertEqual(float(plain.get("viewBox").split()[3]), height)
        self.assertGreater(float(self.drawn(layout="phone").get("viewBox").split()[3]), height + 50)

    def test_bars_can_be_touched_in_their_order(self):
        root = etree.fromstring(plain_score(self.drawings["desk"].svg, self.drawings["desk"].geometry, self.numbers).encode())
        self.assertEqual([bar.get("data-bar") for bar in self.of(root, "bar")], [str(n) for n in range(9)])

    def test_nothing_inline_gets_into_the_page(self):
        text = etree.tostring(self.drawn({"kind": "missed", "bar": "7", "beat": 1.0}), encoding="unicode")
        self.assertNotRegex(text, r"<style| style=|<script| on\w+=|color=\"black\"")


class HandsLoudnessAndChordsTests(SimpleTestCase):
    """Lanes and marks that only some music has."""

    def drawn(self, data: bytes, expected: Expectation, instrument: str, step: str, manner: str, *faults: dict[str, Any]) -> etree._Element:
        take = simulate(expected, BY_SLUG[instrument], 84.0, faults=list(faults), room="bedroom", seed=2, manner=manner)
        recording = Recording(samples=soxr.resample(take.samples, 44_100, RATE_HZ).astype(np.float32))
        result = result_of(analyse(recording, expected, Targets(tempo_qpm=84.0, instrument=instrument, step=step)))
        prepared = prepare(data)
        numbers = {bar.id: bar.number for bar in read(prepared).parts[0].bars}
        engraving = engrave_isolated(prepared, 1, None)["desk"]
        view = View(lanes=("placement", "pitch", "tempo", "loudness"), bar_numbers=numbers)
        return etree.fromstring(score_with_lanes(engraving.svg, engraving.geometry, result, view).encode())

    def of(self, root: etree._Element, name: str) -> list[etree._Element]:
        return [e for e in root.iter() if name in (e.get("class") or "").split()]

    def test_two_hands_have_a_lane_each_and_loudness_a_ribbon_that_grows(self):
        line = {"lower": "C3:h G3:h | F3:h C3:h | G3:h E3:h | C3:w", "name": "Piano", "fifths": 0}
        text = "C5:q!p E5:q G5:q E5:q | F5:q A5:q G5:q E5:q | D5:q!f F5:q E5:q C5:q | C5:w"
        root = self.drawn(
            musicxml(text, **line), expectation(text, **line), "piano", "play", "play", {"kind": "hand", "ms": 80, "staff": 2}
        )
        names = {e.text for e in self.of(root, "lane-label")}
        self.assertEqual(names, {"right hand", "left hand", "tempo", "loudness"})
        [ribbon] = self.of(root, "ribbon")
        upper = [tuple(map(float, point.split(","))) for point in ribbon.get("points").split()]
        half = len(upper) // 2
        thickness = [below[1] - above[1] for above, below in zip(upper[:half], reversed(upper[half:]), strict=True)]
        self.assertGreater(np.mean(thickness[-4:-1]), 1.3 * np.mean(thickness[:4]))

    def test_another_chord_stands_over_its_strokes(self):
        text = "x:q@C x:q x:q x:q | x:q@F x:q x:q x:q | x:q@G x:q x:q x:q | x:q@C x:q x:h"
        faults = [{"kind": "chord", "note": i, "chord": "Am"} for i in (4, 5)]
        root = self.drawn(musicxml(text, fifths=0), expectation(text, fifths=0), "guitar", "chords", "strum", *faults)
        [symbol] = self.of(root, "chord-heard")
        self.assertEqual(symbol.text, "Am")
        [line] = self.of(root, "held")
        self.assertGreater(float(line.get("x2")), float(line.get("x1")) + 300)
