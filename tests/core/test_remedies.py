"""Which kind of fault keeps a stone from becoming firm, and the exercise that is proposed."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.practising.kinds import FaultKind, Place, Reading, Try, read_kind
from didactor.core.practising.remedies import music_of, remedy_for
from tests.music import expectation

RUNGS = [50.0, 60.0, 70.0, 80.0, 90.0, 100.0]
#: Three bars of 4/4: a run, a rest before the second half, a long note.
LINE = "C4:q D4:q E4:q F4:q | r:h G4:q A4:q | B4:h C5:h"


def tries(signs: str, tempo: float, *, note: str = "n", joined: bool = False) -> list[Try]:
    return [Try(tempo=tempo, failed=(note,) if sign == "-" else (), joined=joined) for sign in signs]


class KindTests(SimpleTestCase):
    def kind(self, *parts: list[Try], carried: str = "", **place: object) -> FaultKind | None:
        reading = read_kind([t for part in parts for t in part], {"n": Place(bar="2", **place)}, ["n"] * len(carried))
        return reading.kind if reading else None

    def test_nothing_is_said_before_one_place_has_failed_three_times(self):
        self.assertIsNone(read_kind(tries("--", 100), {}))
        self.assertIsNone(read_kind(tries("+++", 100), {}))
        scattered = [Try(tempo=100.0, failed=(f"n{k}",)) for k in range(6)]
        self.assertIsNone(read_kind(scattered, {}))

    def test_at_one_tempo_alone_it_cannot_be_told(self):
        reading = read_kind(tries("----", 100), {"n": Place(bar="2")})
        self.assertEqual((reading.kind, reading.at, reading.bar), (None, "n", "2"))

    def test_wrong_at_every_tempo_and_wrong_only_when_fast(self):
        self.assertIs(self.kind(tries("---", 100), tries("---", 72)), FaultKind.EVERY_TEMPO)
        fast = [*tries("----", 100), *tries("+++++", 72)]
        self.assertIs(self.kind(fast), FaultKind.FAST)
        self.assertEqual(read_kind(fast, {}).clean_at, 72)

    def test_slower_is_said_with_more_evidence_than_the_rest(self):
        self.assertIsNone(self.kind(tries("---", 100), tries("+", 72)))

    def test_wrong_only_where_two_stones_meet(self):
        alone, joined = tries("+++", 100), tries("---", 100, joined=True)
        self.assertIs(self.kind(alone, joined, at_seam=True), FaultKind.JOIN)
        self.assertIsNot(self.kind(alone, joined), FaultKind.JOIN, "the place is not at the seam")

    def test_the_note_after_a_rest_and_the_like_bar_carried_on(self):
        failing = [*tries("---", 100), *tries("---", 72)]
        self.assertIs(self.kind(failing, after_rest=True), FaultKind.AFTER_REST)
        self.assertIs(self.kind(failing, like="6", carried="-----"), FaultKind.CARRIED_OVER)
        self.assertIs(self.kind(failing, like="6"), FaultKind.EVERY_TEMPO, "another note than the like bar's was played")


class RemedyTests(SimpleTestCase):
    def setUp(self):
        self.music = expectation(LINE, fifths=0)
        self.ids = {(n.bar, n.beat): n.id for n in self.music.notes}

    def remedy(self, kind: FaultKind | None, at: tuple[str, float] = ("2", 2.0), done: tuple[str, ...] = (), **reading: object):
        found = Reading(kind=kind, at=self.ids[at], bar=at[0], **reading)
        return remedy_for(found, self.music, bars="1-3", tempo=100.0, rungs=RUNGS, done=done)

    def played(self, exercise) -> list[str]:
        return [n.written_pitch for n in music_of(exercise, self.music).notes]

    def test_a_fault_of_speed_goes_to_the_fastest_clean_tempo_and_no_other_kind_is_only_slower(self):
        slow = self.remedy(FaultKind.FAST, clean_at=83.0)
        self.assertEqual((slow.means, slow.tempo, slow.from_quarters), ("slower", 80.0, None))
        self.assertEqual(self.remedy(FaultKind.FAST).tempo, 70.0)
        for kind in set(FaultKind) - {FaultKind.FAST}:
            found = self.remedy(kind, like="1")
            self.assertTrue(found.from_quarters is not None or found.order or found.staff or found.step != "play", kind)

    def test_where_it_cannot_be_told_three_slow_ones_will(self):
        found = self.remedy(None)
        self.assertEqual((found.means, found.tempo, found.times), ("find_out", 70.0, 3))

    def test_around_the_bar_line_and_from_two_beats_before_an_entry(self):
        seam = self.remedy(FaultKind.JOIN, at=("3", 0.0))
        self.assertEqual(self.played(seam), ["G4", "A4", "B4"])
        entry = self.remedy(FaultKind.AFTER_REST)
        self.assertEqual(self.played(entry), ["G4", "A4"])
        heard = music_of(entry, self.music)
        self.assertEqual([n.onset_quarters for n in heard.notes], [2.0, 3.0])
        self.assertEqual((heard.bars[0].start_quarters, heard.length_quarters), (0.0, 4.0))

    def test_both_like_bars_in_turn(self):
        found = self.remedy(FaultKind.CARRIED_OVER, like="1")
        self.assertEqual(found.order, "1 2 1 2")

    def test_a_component_is_another_one_each_time_and_round_again(self):
        done: list[str] = []
        for _ in range(4):
            done.append(self.remedy(FaultKind.EVERY_TEMPO, at=("3", 0.0), done=tuple(done)).means)
        self.assertEqual(done, ["two_notes", "clap", "silent", "two_notes"])
        two = self.remedy(FaultKind.EVERY_TEMPO, at=("3", 0.0))
        self.assertEqual(self.played(two), ["A4", "B4"])
        self.assertEqual(self.remedy(FaultKind.EVERY_TEMPO, at=("3", 0.0), done=("two_notes", "clap")).silent, True)

    def test_the_first_note_has_the_next_one_for_company(self):
        self.assertEqual(self.played(self.remedy(FaultKind.EVERY_TEMPO, at=("1", 0.0))), ["C4", "D4"])
