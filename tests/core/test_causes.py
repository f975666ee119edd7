"""Why something went wrong, as far as the score knows: each cause told where it is planted, all silent where nothing special is."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from django.test import SimpleTestCase

from didactor.core.analyse import Analysis
from didactor.core.causes.registry import Cause, all_causes, causes_of
from didactor.core.formats.analysis_json import result_of
from didactor.core.hearing.hearing import ChordReading, Hearing, NoteHeard, Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.judge import judge
from didactor.core.judging.registry import run_checks
from didactor.core.judging.targets import Targets
from didactor.core.practising.keeps_failing import Tried, causes_in_practice
from didactor.core.score.expected import expect
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.sound.gate import Quality
from tests.core.by_hand import QUARTER_S, at
from tests.music import musicxml

#: Bars 1 and 3 begin alike and end differently; leaps over the clarinet's break; an entry after a rest in 2 and 4.
LINE = (
    "C5:q D5:q E5:q C5:q | r:h G4:q A4:q | C5:q D5:q E5:q G5:q | r:h F4:q G4:q | C5:q E5:q D5:q C5:q | "
    "E5:q D5:q C5:q B4:q | C5:q D5:q E5:q F5:q | r:h A4:q G4:q"
)


class CauseTests(SimpleTestCase):
    def told(
        self,
        wrong: dict[tuple[str, float], int | None],
        *,
        text: str = LINE,
        instrument: str = "flute",
        late: tuple[int, float] | None = None,
        **line: Any,
    ) -> list[Cause]:
        """``wrong``: bar and beat to the sounding MIDI number heard there, None for a missed note; ``late``: a staff and by how much."""
        part = read(prepare(musicxml(text, **{"fifths": 0, **line}))).parts[0]
        music, notes = expect(part), []
        for note in music.notes:
            heard = NoteHeard(
                status=Status.CORRECT,
                confidence=0.95,
                onset_s=at(note.onset_quarters) + (late[1] if late and note.staff == late[0] and note.beat == 1.0 else 0.0),
                offset_s=at(note.onset_quarters + 0.9 * note.duration_quarters),
                heard_midi=note.sounding_midi,
                timed=True,
            )
            if (note.bar, note.beat) in wrong and note.staff == 1:
                pitch = wrong[note.bar, note.beat]
                gone = {"status": Status.MISSED, "onset_s": None, "offset_s": None, "heard_midi": None, "timed": False}
                heard = replace(heard, **(gone if pitch is None else {"status": Status.WRONG_PITCH, "heard_midi": pitch, "timed": False}))
            notes.append(heard)
        hearing = Hearing(notes=tuple(notes), extra=(), jumps=(), seconds_per_quarter=QUARTER_S, share_of_notes=1.0, share_of_sounds=1.0)
        return self.causes(hearing, music, part, instrument)

    def causes(self, hearing: Hearing, music: Any, part: Any, instrument: str) -> list[Cause]:
        targets = Targets(tempo_qpm=60 / QUARTER_S, instrument=instrument)
        evidence = judge(hearing, music, targets, BY_SLUG[instrument])
        quality = Quality(verdict="ok", problems=(), numbers={})
        made = Analysis(
            expectation=music, targets=targets, duration_s=30.0, quality=quality, evidence=evidence, findings=tuple(run_checks(evidence))
        )
        return causes_of(result_of(made), part)

    def codes(self, *arguments: Any, **options: Any) -> list[str]:
        return [cause.code for cause in self.told(*arguments, **options)]

    def test_there_are_nine(self):
        self.assertEqual(len(all_causes()), 9)

    def test_the_like_bar_s_note_at_the_trap(self):
        [cause] = self.told({("3", 3.0): 72})
        self.assertEqual((cause.code, cause.bar, len(cause.points_to)), ("trap", "3", 1))
        self.assertIn("begins like bar 1", cause.says)
        self.assertIsNotNone(cause.start_s)
        self.assertEqual(self.codes({("3", 3.0): 75}), [], "another note than the pattern's")
        self.assertEqual(self.codes({("3", 1.0): 72}), [], "not where the bars part")

    def test_the_figure_of_the_bar_before(self):
        # Bar 6 is played as bar 5.
        self.assertEqual(self.codes({("6", 0.0): 72, ("6", 1.0): 76}), ["carried_on"])
        self.assertEqual(self.codes({("6", 0.0): 72}), [])
        self.assertEqual(self.codes({("6", 0.0): 72, ("7", 1.0): 79}), [])

    def test_the_first_notes_after_rests(self):
        self.assertEqual(self.codes({("2", 2.0): None, ("4", 2.0): None, ("8", 2.0): 65}), ["after_rest"])
        self.assertEqual(self.codes({("2", 2.0): None}), [], "once is chance")
        everywhere = {
            ("2", 2.0): None,
            ("4", 2.0): None,
            **{("7", float(k)): 60 for k in range(4)},
            **{("5", float(k)): 61 for k in range(4)},
        }
        self.assertNotIn("after_rest", self.codes(everywhere), "no more there than elsewhere")

    def test_the_register_changes_on_the_clarinet_and_nothing_on_the_flute(self):
        over = {("3", 0.0): 60, ("5", 0.0): 60, ("7", 0.0): 65}
        self.assertEqual(self.codes(over, instrument="flute"), [])
        leaps = "C4:q C5:q D5:q E5:q | F5:q F4:q G4:q F4:q | E4:q E5:q D5:q C5:q | D5:q C5:q D5:q C5:q"
        faults = {("1", 1.0): 60, ("2", 1.0): 60, ("3", 1.0): 60}
        self.assertEqual(self.codes(faults, text=leaps, instrument="flute"), ["register_change"])

    def test_the_key_beside_on_a_keyboard_only(self):
        beside = {("1", 1.0): 75, ("5", 1.0): 77, ("7", 2.0): 77}
        self.assertEqual(self.codes(beside, instrument="piano"), ["neighbour_key"])
        self.assertNotIn("neighbour_key", self.codes(beside, instrument="flute"))
        self.assertNotIn("neighbour_key", self.codes({("1", 1.0): 75, ("5", 1.0): 69, ("7", 2.0): 81}, instrument="piano"))

    def test_the_hand_moves_on_a_keyboard(self):
        wide = "C4:q D4:q E4:q F4:q | C6:q B5:q A5:q G5:q | C4:q D4:q E4:q F4:q | C6:q B5:q A5:q G5:q"
        faults = {("2", 0.0): None, ("3", 0.0): None, ("4", 0.0): None}
        self.assertEqual(self.codes(faults, text=wide, instrument="piano"), ["hand_move"])

    def test_strings_are_crossed(self):
        crossing = "D4:q E4:q F4:q G4:q | A4:q G4:q F4:q E4:q | D4:q E4:q F4:q G4:q | A4:q G4:q F4:q E4:q | D4:q E4:q F4:q E4:q"
        faults = {("2", 0.0): 73, ("2", 1.0): 64, ("4", 0.0): 73, ("4", 1.0): 64}
        self.assertEqual(self.codes(faults, text=crossing, instrument="violin"), ["string_crossing"])

    def test_one_hand_is_late(self):
        lower = " | ".join(["C3:q G3:q C3:q G3:q"] * 8)
        found = self.told({}, lower=lower, name="Piano", instrument="piano", late=(2, 0.2))
        self.assertEqual([(c.code, c.title) for c in found], [("hand_late", "The left hand is not ready")])

    def test_one_change_of_chords(self):
        part = read(prepare(musicxml(" | ".join(["x:h@G x:h@C", "x:h@D x:h@C"] * 3), fifths=0))).parts[0]
        music = expect(part)
        names = ["G", "C", "D", "C"] * 3
        chords = tuple(
            ChordReading(
                note=note,
                written=name,
                heard=None if k % 4 == 1 else name,
                status=Status.WRONG_PITCH if k % 4 == 1 else Status.CORRECT,
                confidence=0.9,
            )
            for k, (note, name) in enumerate(zip(music.notes, names, strict=True))
        )
        plain = {"status": Status.CORRECT, "confidence": 0.9, "timed": True}
        notes = tuple(NoteHeard(onset_s=at(n.onset_quarters), offset_s=at(n.onset_quarters + 1), **plain) for n in music.notes)
        shares = {"share_of_notes": 1.0, "share_of_sounds": 1.0, "seconds_per_quarter": QUARTER_S}
        hearing = Hearing(notes=notes, extra=(), jumps=(), chords=chords, of_strokes=True, **shares)
        [cause] = self.causes(hearing, music, part, "guitar")
        self.assertEqual((cause.code, cause.title), ("chord_pair", "G to C"))
        self.assertIn("3 of 3 times", cause.says)

    def test_nothing_is_told_of_a_faultless_take_or_of_one_slip(self):
        self.assertEqual(self.codes({}), [])
        self.assertEqual(self.codes({("5", 2.0): 70}), [])


class InPracticeTests(SimpleTestCase):
    """All attempts together, each note once."""

    def setUp(self):
        self.part = read(prepare(musicxml(LINE, fifths=0))).parts[0]
        self.music = expect(self.part)
        self.entries = [note.id for note in self.music.notes if (note.bar, note.beat) in (("2", 2.0), ("4", 2.0), ("8", 2.0))]

    def tried(self, bars: tuple[str, ...], at_fault: dict[str, int | None], times: int = 3) -> list[Tried]:
        played = frozenset(note.id for note in self.music.notes if note.bar in bars)
        return [Tried(played=played, at_fault={k: v for k, v in at_fault.items() if k in played})] * times

    def codes(self, tries: list[Tried]) -> list[str]:
        return [cause.code for cause in causes_in_practice(self.part, self.music, tries, Targets(tempo_qpm=80.0, instrument="flute"))]

    def stones(self, at_fault: dict[str, int | None], times: int = 3) -> list[Tried]:
        return [tried for bars in (("1", "2"), ("3", "4"), ("7", "8")) for tried in self.tried(bars, at_fault, times)]

    def test_the_same_kind_of_place_in_several_stones(self):
        self.assertEqual(self.codes(self.stones(dict.fromkeys(self.entries))), ["after_rest"])

    def test_one_hard_note_is_no_pattern_however_often_it_fails(self):
        self.assertEqual(self.codes(self.stones({self.entries[0]: None}, times=12)), [])

    def test_what_failed_once_or_seldom_is_chance(self):
        self.assertEqual(self.codes(self.stones(dict.fromkeys(self.entries), times=1)), [])
        self.assertEqual(self.codes(self.stones(dict.fromkeys(self.entries), times=2) + self.stones({}, times=5)), [])

    def test_the_like_bar_s_note_and_no_tries_at_all(self):
        third = next(note.id for note in self.music.notes if (note.bar, note.beat) == ("3", 3.0))
        self.assertEqual(self.codes(self.tried(("3",), {third: 72})), ["trap"])
        self.assertEqual(self.codes([]), [])
