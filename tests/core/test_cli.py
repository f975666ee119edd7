"""The command line's contract: files in, JSON out, exit status and one line when something cannot be used."""

from __future__ import annotations

import contextlib
import io
import json
import tempfile
from pathlib import Path

import mido
from django.test import SimpleTestCase

from didactor.cli import main
from didactor.core.score.read.musicxml import prepare, read
from tests.music import musicxml


def notes_of(path: Path) -> list[tuple[int, float]]:
    """(key, seconds) of every note in a MIDI file."""
    time, found = 0.0, []
    for message in mido.MidiFile(path):
        time += message.time
        if message.type == "note_on" and message.velocity:
            found.append((message.note, round(time, 2)))
    return found


class CommandLineTests(SimpleTestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.score = self.folder / "tune.musicxml"
        self.score.write_bytes(musicxml())

    def run_it(self, *arguments: str) -> tuple[int, str]:
        errors = io.StringIO()
        with contextlib.redirect_stderr(errors):
            status = main(list(arguments))
        return status, errors.getvalue()

    def test_perform_then_analyse_finds_the_fault(self):
        faults, audio, truth, out = (self.folder / n for n in ("faults.json", "take.wav", "truth.json", "out.json"))
        faults.write_text(json.dumps([{"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2}]))
        common = ("--score", str(self.score), "--part", "1", "--bars", "1-8", "--tempo", "88")
        status, _ = self.run_it("perform", *common, "--faults", str(faults), "--audio", str(audio), "--truth", str(truth))
        self.assertEqual(status, 0)
        self.assertEqual(json.loads(truth.read_text())["tempo_qpm"], 88)
        midi, annotated = self.folder / "take.mid", self.folder / "annotated.musicxml"
        out_options = ("--json", str(out), "--midi", str(midi), "--annotated", str(annotated))
        self.assertEqual(self.run_it("analyse", *common, "--audio", str(audio), "--stage", "at_tempo", *out_options)[0], 0)
        result = json.loads(out.read_text())
        self.assertEqual([(f["code"], f["bar"]) for f in result["findings"]], [("notes.wrong", "6")])
        self.assertAlmostEqual(result["tempo"]["played_bpm"], 88, delta=0.5)
        wrong = next(n for n in result["notes"] if n["status"] == "wrong_pitch")
        self.assertIn((wrong["heard_midi"], round(wrong["onset_s"], 2)), notes_of(midi))
        marked = read(prepare(annotated.read_bytes()))
        self.assertEqual(len(marked.parts[0].bars), 9)
        self.assertIn("E is written, F sharp is played.", annotated.read_text())

    def test_expect_names_parts_and_notes(self):
        out = self.folder / "out.json"
        self.assertEqual(self.run_it("expect", "--score", str(self.score), "--bars", "0-1", "--json", str(out))[0], 0)
        data = json.loads(out.read_text())
        self.assertEqual(data["parts"][0]["transposition"], 0)
        self.assertEqual([n["bar"] for n in data["notes"]], ["0", "1", "1", "1", "1", "1"])

    def test_what_cannot_be_used_ends_with_2_and_one_line(self):
        text, out = self.folder / "letter.wav", self.folder / "out.json"
        text.write_text("not a recording")
        base = ("analyse", "--score", str(self.score), "--tempo", "90", "--json", str(out))
        for arguments in (
            (*base, "--audio", str(text)),
            (*base, "--audio", str(self.folder / "missing.wav")),
            (*base, "--audio", str(text), "--bars", "50-60"),
            ("analyse", "--score", str(text), "--tempo", "90", "--json", str(out), "--audio", str(text)),
        ):
            status, errors = self.run_it(*arguments)
            self.assertEqual((status, errors.count("\n")), (2, 1), errors)
            self.assertFalse(out.exists())

    def perform(self, *options: str, tempo: str = "90") -> Path:
        audio = self.folder / "take.wav"
        common = ("--score", str(self.score), "--tempo", tempo, "--audio", str(audio), "--truth", str(self.folder / "truth.json"))
        self.assertEqual(self.run_it("perform", *common, *options)[0], 0)
        return audio

    def analysed(self, audio: Path, *options: str) -> dict:
        out = self.folder / "out.json"
        status, errors = self.run_it("analyse", "--audio", str(audio), "--json", str(out), *options)
        self.assertEqual(status, 0, errors)
        return json.loads(out.read_text())

    def test_targets_come_from_a_file_and_options_go_first(self):
        targets = self.folder / "targets.json"
        targets.write_text(json.dumps({"tempo_qpm": 60, "stage": "final", "bars": "1-4", "instrument": "flute"}))
        audio = self.perform("--bars", "1-4")
        result = self.analysed(audio, "--score", str(self.score), "--targets", str(targets), "--tempo", "90")
        self.assertEqual((result["targets"]["tempo_qpm"], result["targets"]["stage"]), (90.0, "final"))
        self.assertEqual({n["bar"] for n in result["notes"]}, {"1", "2", "3", "4"})
        self.assertEqual(result["findings"], [])
        slower = self.analysed(audio, "--score", str(self.score), "--targets", str(targets))
        self.assertEqual([f["code"] for f in slower["findings"]], ["tempo.off_target"])

    def test_an_order_by_sections_is_played_and_heard(self):
        order = ("--bars", "1-4", "--order", "A: 1-2 B: 3, A B A")
        result = self.analysed(self.perform(*order), "--score", str(self.score), "--tempo", "90", *order)
        self.assertEqual(
            [(n["bar"], n["pass"]) for n in result["notes"] if n["beat"] == 0.0], [("1", 1), ("2", 1), ("3", 1), ("1", 2), ("2", 2)]
        )
        self.assertEqual(result["findings"], [])

    def test_without_a_score_metre_and_bars_are_enough(self):
        audio = self.perform()
        result = self.analysed(audio, "--metre", "4/4", "--bars", "1-8", "--tempo", "90", "--instrument", "flute")
        self.assertAlmostEqual(result["tempo"]["played_bpm"], 90, delta=1.5)
        status, errors = self.run_it("analyse", "--audio", str(audio), "--json", "-", "--tempo", "90")
        self.assertEqual(status, 2)
        self.assertIn("--metre", errors)

    def test_names_are_said_and_heard_for_their_pace(self):
        audio = self.perform("--manner", "say")
        result = self.analysed(audio, "--score", str(self.score), "--tempo", "90", "--step", "say")
        self.assertEqual((result["findings"], {n["status"] for n in result["notes"]}), ([], {"uncertain"}))

    def test_results_go_to_standard_output(self):
        stream = io.StringIO()
        with contextlib.redirect_stdout(stream):
            self.assertEqual(self.run_it("expect", "--score", str(self.score), "--bars", "1", "--json", "-")[0], 0)
        self.assertEqual(len(json.loads(stream.getvalue())["notes"]), 5)

    def test_bad_files_beside_the_score_are_told_in_one_line(self):
        broken = self.folder / "broken.json"
        broken.write_text("{")
        audio = self.perform()
        base = ("analyse", "--score", str(self.score), "--audio", str(audio), "--json", str(self.folder / "none.json"))
        for options, words in (
            (("--targets", str(broken)), "is not targets in JSON"),
            ((), "Give the target tempo"),
            (("--tempo", "90", "--part", "4"), "no part 4"),
            (("--tempo", "4000"), "not playable"),
            (("--tempo", "90", "--order", "A B"), "no section A"),
            (("--tempo", "90", "--backing", str(broken)), ""),
        ):
            status, errors = self.run_it(*base, *options)
            self.assertEqual((status, errors.count("\n")), (2, 1), errors)
            self.assertIn(words, errors)
        self.assertFalse((self.folder / "none.json").exists())
