"""What is stored of a hearing: written and read back alike, older schemas too, and a take at a glance."""

from __future__ import annotations

import itertools
import json
import re
from dataclasses import replace
from pathlib import Path

import jsonschema
from django.test import SimpleTestCase

from didactor.core import engine
from didactor.core.analyse import analyse
from didactor.core.formats.analysis_json import result_of, schema
from didactor.core.formats.glance import bars_at_a_glance, summary_of
from didactor.core.formats.result import FindingResult, Result, read_result, with_names_of_schema_1
from didactor.core.hearing.hearing import Status
from didactor.core.judging.categories import CATEGORIES, gravest
from didactor.core.judging.targets import Targets
from tests.music import TUNE, expectation, played


def heard(*faults) -> Result:
    return result_of(analyse(played(*faults), expectation(TUNE), Targets(tempo_qpm=92.0, instrument="clarinet")))


class ResultTests(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.result = heard({"kind": "wrong", "bar": "6", "beat": 0.0}, {"kind": "hesitation", "bar": "4", "beat": 0.0, "seconds": 1.2})

    def test_what_is_written_is_read_back(self):
        written = json.loads(json.dumps(self.result.to_json()))
        jsonschema.validate(written, schema())
        again = read_result(written)
        self.assertEqual(json.loads(json.dumps(again.to_json())), written)
        self.assertEqual(again.notes[3].status, self.result.notes[3].status)
        self.assertEqual(again.targets, self.result.targets)
        self.assertEqual([f.code for f in again.findings], [f.code for f in self.result.findings])

    def test_schema_1_is_read_and_its_names_are_still_written_by_the_command_line(self):
        written = json.loads(json.dumps(self.result.to_json()))
        older = with_names_of_schema_1(written)
        jsonschema.validate(older, schema())
        pause = older["pulse"]["hesitations"][0]
        self.assertEqual(pause["extra_beats"], pause["extra_quarters"])
        for note in older["notes"]:
            del note["early_late_quarters"]
        del pause["extra_quarters"]
        read = read_result({**older, "schema": "didactor-analysis-1"})
        self.assertEqual(json.loads(json.dumps(read.to_json())), written)

    def test_what_an_older_engine_did_not_know_is_not_judged(self):
        written = self.result.to_json()
        for name in ("hands", "loudness", "chords", "count"):
            del written[name]
        for note in written["notes"]:
            del note["reason"]
        self.assertIsNone(read_result(written).hands)

    def test_a_foreign_or_later_result_is_refused(self):
        for name in ("didactor-analysis-3", None):
            with self.assertRaises(ValueError):
                read_result({**self.result.to_json(), "schema": name})

    def test_nothing_outside_the_formats_reads_a_result_by_its_keys(self):
        root = Path(__file__).resolve().parents[2] / "didactor"
        for path in root.rglob("*.py"):
            if "migrations" not in path.parts:
                self.assertNotRegex(path.read_text(), r"result\[\"|\.result\.get\(", str(path))


class GlanceTests(SimpleTestCase):
    def setUp(self):
        self.result = heard()

    def with_findings(self, *found: tuple[str, str | None]) -> Result:
        findings = (FindingResult(code="x", category=category, bar=bar, confidence=1.0, text=f"{category}.") for category, bar in found)
        return replace(self.result, findings=tuple(findings))

    def test_every_category_is_seen_in_its_bar(self):
        for category in CATEGORIES:
            cells = {c.number: c.worst for c in bars_at_a_glance(self.with_findings((category, "3")))}
            self.assertEqual(cells, {**dict.fromkeys(map(str, range(9)), ""), "3": category})

    def test_the_gravest_is_shown_and_all_are_said(self):
        cell = bars_at_a_glance(self.with_findings(("dynamics", "2"), ("notes", "2"), ("hands", "2"), ("tempo", None)))[2]
        self.assertEqual((cell.worst, cell.words), ("notes", "dynamics. notes. hands."))
        self.assertEqual(gravest([]), "")
        order = ("notes", "flow", "rhythm", "intonation", "tempo", "hands", "dynamics", "articulation", "tone", "expression", "other")
        self.assertEqual(set(order), set(CATEGORIES))
        for graver, lighter in itertools.pairwise(order):
            self.assertEqual((gravest([graver, lighter]), gravest([lighter, graver])), (graver, graver))

    def test_a_bar_is_unjudged_only_where_all_its_notes_are(self):
        notes = tuple(replace(n, status=Status.UNCERTAIN) if n.bar == "2" else n for n in self.result.notes)
        self.assertEqual([c.number for c in bars_at_a_glance(replace(self.result, notes=notes)) if c.worst == "unjudged"], ["2"])
        one = tuple(replace(n, status=Status.UNCERTAIN) if n.bar == "2" and n.beat else n for n in self.result.notes)
        self.assertEqual([c.worst for c in bars_at_a_glance(replace(self.result, notes=one))], [""] * 9)
        said = replace(self.result, notes=notes, targets=replace(self.result.targets, step="say"))
        self.assertEqual([c.worst for c in bars_at_a_glance(said)], [""] * 9)

    def test_the_summary_of_nothing_judged_is_empty(self):
        empty = replace(self.result, notes=None, findings=None, tempo=None, pulse=None)
        facts = {"judged": 0, "expected": 0, "faults": {}, "rhythm": 0}
        nothing = {"strip": [], "played_qpm": None, "findings": 0, "facts": facts, "categories": {}, "places": []}
        self.assertEqual(summary_of(empty), nothing | {"paused_s": None})
        self.assertEqual(summary_of(self.result)["paused_s"], 0.0)
        self.assertAlmostEqual(summary_of(self.result)["played_qpm"], 92, delta=0.5)

    def test_the_style_sheet_has_a_sign_for_every_category(self):
        css = (Path(__file__).resolve().parents[2] / "didactor/static/css/app.css").read_text()
        self.assertEqual(set(re.findall(r":is\(\.strip li, \.bar-cell\)\.(\w+)::before", css)) - {"has"}, set(CATEGORIES))


class EngineVersionTests(SimpleTestCase):
    def test_it_moves_with_every_file_that_hears_or_judges(self):
        names = {str(path.relative_to(Path(engine.__file__).parent)) for path in engine.sources()}
        for needed in ("hearing/many_voices.py", "hearing/presence.json", "judging/checks/placement.py", "sound/gate.py", "steps/play.py"):
            self.assertIn(needed, names)
        before = engine.engine_version()
        self.assertRegex(before, r"^\d+\.\d+-[0-9a-f]{10}$")
        original = Path.read_bytes
        try:
            Path.read_bytes = lambda path: original(path) + (b"#" if path.name == "pulse.py" else b"")
            engine.engine_version.cache_clear()
            self.assertNotEqual(engine.engine_version(), before)
        finally:
            Path.read_bytes = original
            engine.engine_version.cache_clear()
        self.assertEqual(engine.engine_version(), before)
