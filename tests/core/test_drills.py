"""Drills made on the spot: what is offered, how a go is read, what comes next."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.practising.attempt import Asked, attend, heard_whole
from didactor.core.practising.change import Change, is_late, per_minute, table
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.drills.drill import Drill, Go, Material, Prompt, tempo_of
from didactor.core.practising.drills.find_it import heard_as, next_prompt
from didactor.core.practising.drills.names import touched_verdict
from didactor.core.practising.drills.reading import told_of_changes
from didactor.core.practising.drills.registry import all_kinds, drill_of, kind_of
from didactor.core.practising.drills.strings import cannot_be_told
from didactor.core.practising.drills.warm_up import Known, warm_up
from didactor.core.score.chords import chord_pitch_classes
from didactor.core.score.expected import ExpectedChord, expect
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ
from tests.music import TUNE, musicxml

TEMPO = 72.0
STRUMS = "x:q x:q x:q x:q | x:q x:q x:q x:q | x:q x:q x:q x:q | x:q x:q x:q x:q"


@cache
def material(instrument: str = "clarinet", *, young: bool = False, text: str = TUNE) -> Material:
    part = read(prepare(musicxml(text))).parts[0]
    music = expect(part)
    names = {note.id: note.written_pitch[:-1] for note in part.notes if not note.unpitched}
    return Material(part=part, music=music, instrument=BY_SLUG[instrument], names=names, young=young)


@cache
def chart(*chords: str, instrument: str = "guitar") -> Material:
    own = material(instrument, text=STRUMS)
    placed = tuple(ExpectedChord(onset_quarters=4.0 * k, text=c, pitch_classes=tuple(chord_pitch_classes(c))) for k, c in enumerate(chords))
    return replace(own, music=replace(own.music, chords=placed), step="chords")


def offered(kind: str, of: Material) -> list[Drill]:
    return kind_of(kind).offers(of)


def heard(drill: Drill, *faults: dict, instrument: str, manner: str = "play", tempo: float = TEMPO, room: str = "bedroom"):
    made = simulate(drill.music, BY_SLUG[instrument], tempo, faults=list(faults), room=room, seed=4, manner=manner)
    samples = soxr.resample(made.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
    reads = kind_of(drill.kind).reads
    about = Asked(
        music=drill.music,
        targets=Targets(tempo_qpm=tempo, instrument=instrument, step=drill.step),
        qpm=tempo,
        start_s=made.truth["notes"][0]["onset_s"],
        counts="rhythm",
        reads=(lambda analysis, quarter_s: reads(drill, analysis, quarter_s)) if reads else None,
    )
    return heard_whole(samples, about)


class OfferedTests(SimpleTestCase):
    def kinds(self, of: Material) -> list[str]:
        return [kind.slug for kind in all_kinds() if kind.offers(of)]

    def test_what_fits_the_passage_and_the_player(self):
        self.assertEqual(self.kinds(material()), ["two_notes", "rhythm", "find", "touch_names", "say_names"])
        self.assertEqual(self.kinds(material(young=True)), ["two_notes", "rhythm", "find"])
        self.assertEqual(self.kinds(chart("G", "C", "D")), ["chords", "strings", "find"])
        self.assertEqual(self.kinds(chart("G", "G", "G")), ["strings", "find"])
        self.assertEqual(self.kinds(material("percussion", text=STRUMS)), [])

    def test_every_note_has_its_bar_and_nothing_overlaps(self):
        for of in (material(), material("piano"), chart("G", "C", "D")):
            for kind in all_kinds():
                for drill in kind.offers(of):
                    bars = {(bar.number, bar.pass_) for bar in drill.music.bars}
                    self.assertEqual(len(bars), len(drill.music.bars), drill)
                    for note in drill.music.notes:
                        self.assertIn((note.bar, note.pass_), bars)
                        bar = drill.music.bar_at(note.onset_quarters)
                        self.assertEqual((bar.number, bar.pass_), (note.bar, note.pass_))
                    self.assertTrue(drill.title and drill.of)
                    self.assertEqual(drill_of(of, kind.slug, drill.of), drill)

    def test_the_road_leads_to_where_it_is_written(self):
        of = material()
        [first, *_] = offered("two_notes", of)
        written = {note.id: note.onset_quarters for note in of.music.notes}
        self.assertEqual([stretch[1] for stretch in first.road], [written[note.id] for note in first.music.notes])
        rhythm = offered("rhythm", of)[0]
        self.assertEqual(
            {place for _, place, _ in rhythm.road}, {next(b.start_quarters for b in of.music.bars if b.number == rhythm.of[4:])}
        )

    def test_what_failed_comes_first(self):
        of = material()
        last = offered("two_notes", of)[-1]
        failing = replace(of, failed={last.of.split()[1]: 4})
        self.assertEqual(offered("two_notes", failing)[0].of, last.of)

    def test_a_move_of_the_hand_is_harder_than_a_leap_within_it(self):
        part = "C4:q G4:q C4:q E4:q | G4:q C5:q A5:q C5:q"
        drills = offered("two_notes", material("piano", text=part))
        self.assertEqual(drills[0].title, "G and C, bar 2")

    def test_one_pair_is_one_drill_in_whatever_direction(self):
        drills = offered("two_notes", material("flute", text="C5:q G5:q C5:q G5:q | C5:q A5:q C5:q A5:q"))
        self.assertEqual(len(drills), 2)
        self.assertEqual([n.written_pitch for n in drills[0].music.notes], ["C5", "A5"] * 4)

    def test_an_octave_is_told_apart_in_its_title(self):
        [drill, *_] = offered("two_notes", material("flute", text="D5:q D6:q D5:q D6:q"))
        self.assertTrue(drill.title.startswith("low D and high D"), drill.title)

    def test_even_notes_have_no_rhythm_to_drill_and_bars_of_one_rhythm_are_one(self):
        self.assertEqual(offered("rhythm", material("flute", text="C5:q D5:q E5:q F5:q")), [])
        two = offered("rhythm", material("flute", text="C5:q. D5:e E5:h | E5:q. F5:e G5:h"))
        self.assertEqual(len(two), 1)

    def test_chords_whose_fingers_move_most_come_first(self):
        drills = offered("chords", chart("G", "Em", "C"))
        self.assertEqual({d.of for d in drills}, {"Em>G", "C>Em"} | {d.of for d in drills if d.of not in ("Em>G", "C>Em")})
        self.assertEqual(len(drills), 2)
        self.assertEqual([c.text for c in drills[0].music.chords[:2]], drills[0].of.split(">"))

    def test_open_strings_and_fingers_are_asked_for_by_name(self):
        keys, strings = offered("find", material("violin"))
        self.assertEqual([p.name for p in strings.prompts], [f"the open {s} string" for s in "GDAE"])
        self.assertEqual([p.midi for p in strings.prompts], [55, 62, 69, 76])
        self.assertIn("low A", [p.name for p in keys.prompts])
        self.assertEqual(len({p.name for p in keys.prompts}), len(keys.prompts))
        [only] = offered("find", material())
        self.assertEqual(only.of, "keys")


class ChangesTests(SimpleTestCase):
    def told(self, onsets, right=None, labels=("G", "C"), wait_s=1.0, beat_s=0.5):
        names = [labels[k % 2] for k in range(len(onsets))]
        return told_of_changes(names, onsets, right or [True] * len(onsets), wait_s=wait_s, beat_s=beat_s, what="chord")

    def test_in_time(self):
        found = self.told([0.0, 1.0, 2.0, 3.0, 4.0])
        self.assertEqual((found.outcome, found.says), (Outcome.CLEAN, "60 changes a minute."))
        self.assertEqual([c.late_s for c in found.changes], [0.0] * 4)

    def test_one_direction_that_is_late_is_told_and_the_other_is_not(self):
        found = self.told([0.0, 1.4, 2.0, 3.4, 4.0, 5.4])
        self.assertEqual((found.outcome, found.code), (Outcome.FAULT, "change.late"))
        self.assertTrue(found.says.startswith("G to C came 0.4 s late."), found.says)
        self.assertEqual(found.start_s, 1.4)

    def test_one_slip_is_no_fault(self):
        self.assertIs(self.told([0.0, 1.4, 2.0, 3.0, 4.0, 5.0, 6.0]).outcome, Outcome.CLEAN)

    def test_a_wrong_one_is_told_first(self):
        found = self.told([0.0, 1.4, 2.4, 3.8], [True, True, False, True])
        self.assertEqual((found.code, found.says.split(".")[0]), ("change.wrong", "C to G: another chord, or none"))

    def test_much_that_cannot_be_told_counts_for_nothing(self):
        found = self.told([0.0, 1.0, 2.0, 3.0, 4.0], [True, None, None, True, None])
        self.assertIs(found.outcome, Outcome.UNSURE)
        self.assertIs(self.told([0.0, 1.0, 2.0, 3.0, 4.0], [True, None, True, True, True]).outcome, Outcome.CLEAN)

    def test_late_needs_both_time_and_a_part_of_the_beat(self):
        self.assertTrue(is_late(0.2, 0.5))
        self.assertFalse(is_late(0.12, 0.3))
        self.assertFalse(is_late(0.2, 1.0))
        self.assertFalse(is_late(None, 0.5))

    def test_the_table_has_the_slowest_first_and_is_silent_below_three(self):
        rows = [Change(before="G", after="C", late_s=s, right=True) for s in (0.5, 0.1, 0.3)]
        rows += [Change(before="C", after="G", late_s=0.05, right=False)] * 3 + [Change(before="G", after="D", late_s=0.9, right=True)] * 2
        cells = table(rows)
        wanted = [("G", "C", 0.3, 3, 0), ("C", "G", 0.05, 3, 3), ("G", "D", None, 2, 0)]
        self.assertEqual([(c.before, c.after, c.late_s, c.count, c.wrong) for c in cells], wanted)

    def test_changes_a_minute_are_the_right_ones_at_the_pace_played(self):
        self.assertEqual(per_minute([0.0, 1.0, 2.0], [True, True, False]), 30.0)
        self.assertIsNone(per_minute([0.0, None, 2.0], [True, True, True]))
        self.assertIsNone(per_minute([1.0, 1.0, 1.0], [True, True, True]))


class HeardTests(SimpleTestCase):
    def test_chords_in_turn(self):
        [drill, *_] = offered("chords", chart("G", "C"))
        clean = heard(drill, instrument="guitar", manner="strum")
        self.assertIs(clean.outcome, Outcome.CLEAN, clean.says)
        self.assertEqual(len(clean.changes), 7)
        wrong = heard(drill, {"kind": "chord", "note": 3, "chord": "Em"}, instrument="guitar", manner="strum")
        self.assertEqual(wrong.code, "change.wrong")
        late = heard(drill, *({"kind": "late", "note": k, "ms": 420} for k in (1, 3, 5, 7)), instrument="guitar", manner="strum")
        self.assertIn(f"{drill.of.replace('>', ' to ')} came 0.4 s late", late.says)

    def test_two_notes_in_turn(self):
        [drill, *_] = offered("two_notes", material())
        self.assertIs(heard(drill, instrument="clarinet").outcome, Outcome.CLEAN)
        wrong = heard(drill, {"kind": "wrong", "note": 3, "semitones": -2}, instrument="clarinet")
        self.assertEqual(wrong.code, "change.wrong")
        self.assertIsNotNone(wrong.start_s)

    def test_rhythm_on_one_note_does_not_care_which(self):
        [drill, *_] = offered("rhythm", material())
        played = replace(drill, music=replace(drill.music, notes=tuple(replace(n, sounding_midi=62) for n in drill.music.notes)))
        self.assertIs(heard(played, instrument="piano").outcome, Outcome.CLEAN)
        stopped = heard(played, {"kind": "hesitation", "note": 5, "beats": 1.5}, instrument="piano")
        self.assertIs(stopped.outcome, Outcome.FAULT)

    def test_names_said_have_a_pace(self):
        [drill, *_] = offered("say_names", material(text="C5:q D5:q E5:q D5:q | F5:q E5:q G5:q C5:q"))
        said = heard(drill, instrument="clarinet", manner="say")
        self.assertIs(said.outcome, Outcome.CLEAN, said.says)
        stopped = heard(drill, {"kind": "hesitation", "note": 4, "beats": 1.5}, instrument="clarinet", manner="say")
        self.assertEqual(stopped.code, "names.late")

    def test_a_string_that_is_silent_all_four_times(self):
        drill = next(d for d in offered("strings", chart("G7", "C")) if d.of == "G7")
        told = heard(drill, instrument="guitar")
        self.assertIs(told.outcome, Outcome.CLEAN, told.says)
        self.assertIn("cannot be told", told.says)
        at = [k for k, n in enumerate(drill.music.notes) if n.id == "A"]
        silent = heard(drill, *({"kind": "missed", "note": k} for k in at), instrument="guitar")
        self.assertEqual((silent.outcome, silent.code), (Outcome.FAULT, "strings.silent"))
        self.assertTrue(silent.says.startswith("The string A did not sound."), silent.says)
        once = heard(drill, {"kind": "missed", "note": at[0]}, instrument="guitar")
        self.assertIsNot(once.outcome, Outcome.FAULT)

    def test_what_rings_along_with_a_lower_string_cannot_be_told(self):
        self.assertEqual(cannot_be_told([40, 47, 52, 56, 59, 64]), [False, False, True, False, True, True])
        self.assertEqual(cannot_be_told([67, 60, 64, 72]), [False, False, False, True])


class FoundTests(SimpleTestCase):
    def found(self, played: int, asked: int = 62, seconds: float = 1.2, instrument: str = "violin"):
        one = material(instrument, text="D5:q")
        note = replace(one.music.notes[0], sounding_midi=played, duration_quarters=seconds)
        made = simulate(replace(one.music, notes=(note,)), BY_SLUG[instrument], 60.0, room="bedroom", seed=2)
        samples = soxr.resample(made.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
        prompt = Prompt(midi=asked, name="the open D string")
        targets = Targets(tempo_qpm=60, instrument=instrument)
        return samples, Asked(music=one.music, targets=targets, qpm=60, start_s=0.0, prompt=prompt)

    def test_the_right_one_another_one_and_the_octave(self):
        for played, outcome, words in (
            (62, Outcome.CLEAN, "Yes"),
            (64, Outcome.FAULT, "E sounded"),
            (74, Outcome.FAULT, "an octave too high"),
        ):
            verdict = heard_whole(*self.found(played))
            self.assertIs(verdict.outcome, outcome, verdict.says)
            self.assertIn(words, verdict.says)
            self.assertEqual([c.right for c in verdict.changes], [played == 62])

    def test_it_is_told_as_soon_as_it_sounds_and_not_before(self):
        samples, about = self.found(62)
        self.assertIsNone(attend(samples[: int(0.2 * RATE_HZ)], about).verdict)
        self.assertIs(attend(samples, about).verdict.outcome, Outcome.CLEAN)

    def test_nothing_is_nothing(self):
        _, about = self.found(62)
        silence = np.zeros(3 * RATE_HZ, dtype=np.float32)
        self.assertIsNone(attend(silence, about).verdict)
        self.assertEqual(heard_whole(silence, about).code, "nothing")
        self.assertEqual(attend(np.zeros(13 * RATE_HZ, dtype=np.float32), about).verdict.code, "nothing")

    def test_what_was_not_found_comes_again_but_not_at_once(self):
        prompts = [Prompt(midi=60 + k, name=name) for k, name in enumerate("CDE")]
        told = [Change(before="", after=name, late_s=None, right=right) for name, right in (("C", True), ("D", False))]
        self.assertEqual(next_prompt(prompts, []).name, "C")
        self.assertEqual(next_prompt(prompts, told).name, "E")
        told.append(Change(before="", after="E", late_s=None, right=True))
        self.assertEqual(next_prompt(prompts, told).name, "D")
        self.assertEqual(next_prompt(prompts[:1], told[:1]).name, "C")

    def test_octaves_in_words(self):
        prompt = Prompt(midi=62, name="D")
        self.assertEqual(heard_as(50.1, prompt, 0), "The right name, an octave too low.")
        self.assertEqual(heard_as(86.0, prompt, 0), "The right name, 2 octaves too high.")
        self.assertEqual(heard_as(62.0, Prompt(midi=60, name="D"), -2), "E sounded, in place of D.")


class TouchedTests(SimpleTestCase):
    def setUp(self):
        [self.drill, *_] = offered("touch_names", material())
        self.right = [(float(k), name) for k, name in enumerate(self.drill.touched)]

    def verdict(self, touches):
        return touched_verdict(self.drill, touches, 1.0)

    def test_all_in_time(self):
        self.assertEqual(len(self.drill.touched), 8)
        self.assertTrue(set(self.drill.touched) <= set(self.drill.choices))
        found = self.verdict(self.right)
        self.assertEqual((found.outcome, found.says), (Outcome.CLEAN, "All 8 in time."))

    def test_the_first_wrong_name_is_told_with_its_bar(self):
        found = self.verdict([*self.right[:3], (3.1, "Q"), *self.right[4:]])
        self.assertIn(f"it is {self.drill.touched[3]}, Q was touched", found.says)
        self.assertEqual((found.bar, found.code), (self.drill.music.notes[3].bar, "names.wrong"))

    def test_what_was_not_touched_or_too_late_is_missing(self):
        found = self.verdict(self.right[:-1])
        self.assertIn("nothing was touched in time", found.says)
        self.assertIn("7 of 8", found.says)

    def test_late_touches_and_one_too_many(self):
        late = self.verdict([(at + 0.4, name) for at, name in self.right])
        self.assertEqual(late.code, "names.late")
        self.assertEqual(self.verdict([*self.right, (3.2, "A")]).code, "names.extra")
        self.assertEqual(self.verdict([*self.right, (40.0, "A")]).code, "names.extra")

    def test_nothing_at_all(self):
        self.assertIs(self.verdict([]).outcome, Outcome.FAULT)


class PaceTests(SimpleTestCase):
    RUNGS = (40, 50, 60, 70, 80, 90, 100, 110)

    def tempo(self, *good: bool) -> float:
        return tempo_of([Go(tempo=70, good=g) for g in good], self.RUNGS, 100)

    def test_two_good_ones_lead_up_two_failed_ones_down(self):
        self.assertEqual(self.tempo(), 70)
        self.assertEqual(self.tempo(True), 70)
        self.assertEqual(self.tempo(True, True), 80)
        self.assertEqual(self.tempo(True, False, True), 70)
        self.assertEqual(self.tempo(False, False), 60)
        self.assertEqual(self.tempo(*[False] * 20), 40)
        self.assertEqual(self.tempo(*[True] * 20), 100)

    def test_a_warm_up_is_made_of_what_is_slow_or_wrong(self):
        def known(key: str, late: float, right: bool = True) -> Known:
            return Known(key=key, changes=(Change(before="a", after="b", late_s=late, right=right),) * 3)

        drills = [known("quick", 0.01), known("slow", 0.2), known("slower", 0.5), known("wrong", 0.0, right=False)]
        self.assertEqual(warm_up(drills), ["wrong", "slower", "slow"])
        self.assertEqual(warm_up(drills, most=1), ["wrong"])
        self.assertEqual(warm_up([]), [])
