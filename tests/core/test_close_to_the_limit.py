"""Each limit of a check, from just below and just above."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from django.test import SimpleTestCase

from didactor.core.hearing.hearing import Count, ExtraNote, Jump, NoteHeard, Status, Tuning
from didactor.core.judging.readings_of_sound import opening_after
from didactor.core.judging.registry import Finding
from didactor.core.score.expected import Expectation, ExpectedHairpin
from tests.core.by_hand import HANDS, MISSED, PAIRS, QUARTER_S, at, codes, found, late, walk, wrong
from tests.music import expectation


class CloseTests(SimpleTestCase):
    def turns(self, what: Callable[[float], list[Finding]], code: str, silent: float, told: float) -> None:
        """Nothing of a kind is said at one value, and it is at the other."""
        self.assertNotIn(code, codes(what(silent)), f"{code} at {silent}")
        self.assertIn(code, codes(what(told)), f"{code} at {told}")


class PitchLimits(CloseTests):
    def test_a_long_note_is_out_of_tune_from_25_cents_on_and_a_short_one_from_more(self):
        for sign in (1, -1):
            self.turns(lambda c, s=sign: found(expectation(), {15: {"cents": s * c}}), "intonation.note", 24.9, 25.1)
        # A sixth of a second instead of 0.28: two thirds of what a long note may be off.
        short = {"offset_s": at(4.0) + 0.168}
        self.turns(lambda c: found(walk(), {4: {"cents": c, **short}}), "intonation.note", 41.0, 42.5)

    def test_who_is_never_quite_in_tune_is_blamed_for_what_stands_out_up_to_40_cents(self):
        def loose(cents: float, usual: float) -> list[Finding]:
            return found(walk(), shape=lambda i, n: replace(n, cents=cents if i == 8 else usual * (-1) ** i))

        self.turns(lambda c: loose(c, 8.0), "intonation.note", 34.0, 37.0)
        self.turns(lambda c: loose(c, 14.0), "intonation.note", 39.5, 40.5)

    def test_an_instrument_is_out_of_tune_from_20_cents_on_where_its_notes_agree(self):
        def tuned(cents: float, agree: float = 0.9) -> list[Finding]:
            return found(walk(), tuning=Tuning(a4_hz=445.0, offset_cents=cents, concentration=agree))

        for sign in (1, -1):
            self.turns(lambda c, s=sign: tuned(s * c), "intonation.tuning", 19.9, 20.1)
        self.turns(lambda c: tuned(30.0, c), "intonation.tuning", 0.49, 0.51)
        self.assertEqual(found(walk()), [])  # nobody knows its tuning

    def test_a_drift_of_the_tuning_is_18_cents_and_steady_and_of_twelve_notes(self):
        def drifting(total: float, jump: float = 0.0, last: int = 31) -> list[Finding]:
            return found(
                walk(),
                shape=lambda i, n: replace(n, cents=total * (i / last - 0.5) + jump * (-1) ** i if i <= last else None),
            )

        self.turns(drifting, "intonation.drift", 17.8, 18.2)
        self.turns(lambda c: drifting(-c), "intonation.drift", 17.8, 18.2)
        self.turns(lambda jump: drifting(20.0, jump), "intonation.drift", 8.0, 6.0)
        self.turns(lambda last: drifting(24.0, last=int(last)), "intonation.drift", 10, 11)

    def test_skips_are_read_as_steps_by_habit_from_two_on_and_three_of_four(self):
        thirds = expectation("C4:q E4:q G4:q E4:q | C4:q E4:q G4:q E4:q | C4:q E4:q C4:q E4:q | C4:q E4:q C4:q E4:q", fifths=0)

        def read(steps: tuple[int, ...], others: tuple[int, ...] = ()) -> list[str]:
            edits = {k: wrong(thirds, k, -2 if thirds.notes[k].written_pitch != "C4" else 2) for k in steps}
            return codes(found(thirds, {**edits, **{k: wrong(thirds, k, 5) for k in others}}))

        self.assertNotIn("pattern.skip_as_step", read((1,)))
        self.assertIn("pattern.skip_as_step", read((1, 5)))
        self.assertIn("pattern.skip_as_step", read((1, 5, 9), (13,)))
        self.assertNotIn("pattern.skip_as_step", read((1, 5), (9,)))


class TimeLimits(CloseTests):
    def test_the_strictness_of_each_stage(self):
        def one_late(ms: float, **targets: Any) -> list[Finding]:
            return found(walk(), {13: {"onset_s": at(13.0) + ms / 1000}}, instrument="piano", targets=targets)

        # At 90 a beat is 667 ms; 5 ms are the ear's own doubt. The floor and a share of the beat: the larger counts.
        for stage, limit in (("at_tempo", 0.10), ("final", 0.09), ("steady", 0.18)):
            ms = 1000 * limit * QUARTER_S + 5
            for sign in (1, -1):
                self.turns(lambda v, s=sign, st=stage: one_late(s * v, stage=st), "rhythm.placement", ms - 3, ms + 4)
        quick = {"tempo_qpm": 200.0}

        def hurried(ms: float, stage: str) -> list[Finding]:
            def shape(index: int, note: NoteHeard) -> NoteHeard:
                onset = 1.0 + 0.3 * index + (ms / 1000 if index == 13 else 0.0)
                return replace(note, onset_s=onset, offset_s=onset + 0.25)

            return found(walk(), shape=shape, instrument="piano", seconds_per_quarter=0.3, targets={**quick, "stage": stage})

        for stage, floor in (("at_tempo", 55.0), ("final", 45.0), ("steady", 90.0)):
            self.turns(lambda v, st=stage: hurried(v, st), "rhythm.placement", floor + 5 - 3, floor + 5 + 5)

    def test_an_entry_is_off_from_a_quarter_of_a_beat_and_150_ms_on(self):
        def entry(seconds: float, quarter_s: float = QUARTER_S) -> list[Finding]:
            clicks = tuple(1.0 - quarter_s * k for k in (4, 3, 2, 1))

            def shape(index: int, note: NoteHeard) -> NoteHeard:
                onset = 1.0 + quarter_s * index + seconds
                return replace(note, onset_s=onset, offset_s=onset + 0.2)

            targets = {"tempo_qpm": 60 / quarter_s}
            return found(walk(), shape=shape, opening=opening_after(clicks, walk()), seconds_per_quarter=quarter_s, targets=targets)

        for sign in (1, -1):
            self.turns(lambda v, s=sign: entry(s * v), "rhythm.entry", 0.25 * QUARTER_S - 0.003, 0.25 * QUARTER_S + 0.003)
            # At 120 a quarter of a beat is 125 ms: that is not yet heard.
            self.turns(lambda v, s=sign: entry(s * v, 0.5), "rhythm.entry", 0.148, 0.152)
        self.assertNotIn("rhythm.entry", codes(found(walk(), targets={"stage": "first_reading"})))

    def test_hands_are_apart_from_38_ms_on_where_six_moments_agree(self):
        both = expectation(**HANDS)

        def apart(ms: float, staff: int = 2, moments: int = 32, spread: float = 0.0) -> list[Finding]:
            def shape(index: int, note: NoteHeard) -> NoteHeard:
                written = both.notes[index]
                if written.staff == 2 and written.onset_quarters >= moments:
                    return replace(note, **MISSED)
                moved = late(note, ms / 1000 if written.staff == staff else 0.0)
                return late(moved, spread / 1000 * (-1) ** int(written.onset_quarters)) if written.staff == staff else moved

            return found(both, shape=shape, instrument="piano")

        for staff in (1, 2):
            self.turns(lambda ms, s=staff: apart(ms, s), "hands.apart", 37.0, 39.0)
        self.turns(lambda n: apart(60.0, moments=int(n)), "hands.apart", 5, 6)
        # What is left to chance: 3 times the spread over the root of the number of moments.
        self.turns(lambda ms: apart(ms, moments=6, spread=30.0), "hands.apart", 50.0, 58.0)

    def test_pairs_limp_from_five_per_cent_on(self):
        def limping(percent: float) -> list[Finding]:
            return found(walk(PAIRS), shape=lambda i, n: late(n, QUARTER_S * (percent / 100 - 0.5)) if i % 2 else n)

        self.turns(limping, "rhythm.uneven", 54.7, 55.4)
        self.turns(lambda p: limping(100 - p), "rhythm.uneven", 54.7, 55.4)
        reading = found(walk(PAIRS), shape=lambda i, n: late(n, 0.1 * QUARTER_S) if i % 2 else n, targets={"stage": "first_reading"})
        self.assertEqual(reading, [])

    def test_a_steady_drift_is_told_from_nine_per_cent_on_of_the_smooth_map(self):
        def drifting(total: float) -> list[Finding]:
            onsets = [1.0]
            for k in range(40):
                onsets.append(onsets[-1] + QUARTER_S / (1 + total / 100) ** (k / 31 - 0.5))
            return found(walk(), shape=lambda i, n: replace(n, onset_s=onsets[i], offset_s=onsets[i] + 0.4))

        self.turns(drifting, "tempo.drift", 9.0, 11.5)
        self.turns(lambda v: drifting(-v), "tempo.drift", 9.0, 11.5)

    def test_the_band_has_a_tolerance_of_a_third_of_a_per_cent(self):
        def faster(percent: float, **targets: Any) -> list[Finding]:
            factor = 1 + percent / 100
            return found(
                walk(),
                shape=lambda i, n: replace(n, onset_s=1 + ((n.onset_s or 0) - 1) / factor, offset_s=1 + ((n.offset_s or 0) - 1) / factor),
                seconds_per_quarter=QUARTER_S / factor,
                targets=targets,
            )

        self.turns(faster, "tempo.off_target", 5.2, 5.4)
        self.turns(lambda v: faster(-v), "tempo.off_target", 5.2, 5.4)
        self.turns(lambda v: faster(v, stage="final"), "tempo.off_target", 4.2, 4.4)
        self.turns(lambda v: faster(v, stage="sight_reading"), "tempo.off_target", 15.2, 15.4)
        self.assertEqual(faster(60.0, stage="first_reading"), [])


class LengthLimits(CloseTests):
    def test_a_long_note_is_cut_below_62_per_cent(self):
        halves = walk(" | ".join(["C4:h E4:h", "G4:h E4:h"] * 3))

        def held(share: float, **more: Any) -> list[Finding]:
            edit = {3: {"offset_s": at(halves.notes[3].onset_quarters) + share * 2 * QUARTER_S}}
            return found(halves, edit, **more)

        self.turns(held, "articulation.cut_short", 0.63, 0.61)
        short = replace(halves, notes=tuple(replace(n, articulations=("staccato",) if i == 3 else ()) for i, n in enumerate(halves.notes)))
        self.assertEqual(found(short, {3: {"offset_s": at(6.0) + 0.3}}), [])

    def test_a_rest_of_a_beat_is_filled_from_three_quarters_on(self):
        for text, beats, first in (("C4:q r:q E4:q F4:q", 1.0, 1.0), ("C4:h r:h | E4:h F4:h", 2.0, 2.0)):
            line = walk(" | ".join([text] * 4))

            def through(share: float, line: Expectation = line, beats: float = beats, first: float = first) -> list[Finding]:
                return found(line, {0: {"offset_s": at(first + share * beats)}})

            self.turns(through, "articulation.rest_filled", 0.74, 0.76)
        shorter = walk(" | ".join(["C4:e r:e E4:q F4:h"] * 4))
        self.assertEqual(found(shorter, {0: {"offset_s": at(0.95)}}), [])


class LoudnessLimits(CloseTests):
    def zones(self, marks: str, soft: int = 16, **levels: float) -> list[Finding]:
        """The first notes under one mark, the rest under another, each at its level."""
        first, second = marks.split()
        tune = walk()
        marked = replace(tune, notes=tuple(replace(n, dynamics=first if i < soft else second) for i, n in enumerate(tune.notes)))
        return found(marked, shape=lambda i, n: replace(n, loudness_db=levels["low"] if i < soft else levels["high"]))

    def test_marks_two_steps_apart_differ_by_two_decibels(self):
        self.turns(lambda db: self.zones("p mf", low=-20.0, high=-20.0 + db), "dynamics.flat", 2.1, 1.9)
        self.assertNotIn("dynamics.flat", codes(self.zones("mp mf", low=-20.0, high=-20.0)))
        self.turns(lambda soft: self.zones("p f", soft=int(soft), low=-20.0, high=-20.0), "dynamics.flat", 5, 6)

    def test_a_hairpin_has_five_notes(self):
        tune = walk()
        notes = tuple(replace(n, dynamics="mf") for n in tune.notes)

        def over(count: float, growing: bool = True) -> list[Finding]:
            mark = ExpectedHairpin(begin_quarters=8.0, end_quarters=8.0 + count, growing=growing)
            return found(replace(tune, notes=notes, hairpins=(mark,)))

        self.turns(over, "dynamics.hairpin", 4, 5)
        self.turns(lambda n: over(n, growing=False), "dynamics.hairpin", 4, 5)

    def test_accents_are_heard_from_a_decibel_on_and_four_of_them(self):
        tune = walk()

        def accented(db: float, every: int = 4) -> list[Finding]:
            signs = tuple(replace(n, dynamics="mf", articulations=("accent",) if i % every == 0 else ()) for i, n in enumerate(tune.notes))
            return found(replace(tune, notes=signs), shape=lambda i, n: replace(n, loudness_db=-20.0 + (db if i % every == 0 else 0.0)))

        self.turns(accented, "dynamics.accents", 1.1, 0.9)
        self.turns(lambda every: accented(0.0, int(every)), "dynamics.accents", 11, 8)


class NumberLimits(CloseTests):
    def test_strokes_are_counted_where_nothing_else_explains_them(self):
        def counted(played: int, **more: Any) -> list[str]:
            return codes(found(walk(), count=Count(written=32, played=played), targets={"step": "clap"}, **more))

        self.assertEqual([counted(n) for n in (31, 32, 33)], [["rhythm.count"], [], ["rhythm.count"]])
        back = (Jump(time_s=at(16.0), from_index=15, to_index=12),)
        self.assertNotIn("rhythm.count", counted(36, jumps=back, shape=lambda i, n: replace(n, stretch=1) if i >= 12 else n))

    def test_eight_sounds_of_others_are_not_the_player_s(self):
        def extras(count: float) -> list[Finding]:
            return found(walk(), extra=tuple(ExtraNote(onset_s=2.0 + k, midi=70, bar="2", pass_=1, beat=1.0) for k in range(int(count))))

        self.turns(extras, "other.sounds", 7, 8)

    def test_what_is_not_heard_at_the_edges_was_not_played_and_what_is_unclear_is_not_told(self):
        self.turns(lambda n: found(walk(), dict.fromkeys(range(int(n)), MISSED)), "flow.unplayed", 0, 1)
        unclear = {"status": Status.UNCERTAIN, "onset_s": None, "heard_midi": None, "timed": False}
        self.assertEqual(found(walk(), dict.fromkeys(range(3), unclear)), [])
        told = found(walk(), {**dict.fromkeys(range(2), MISSED), **dict.fromkeys((30, 31), MISSED)})
        self.assertEqual([(f.code, f.size) for f in told], [("flow.unplayed", 2.0)] * 2)

    def test_a_bar_is_left_out_and_a_restart_goes_back(self):
        def jump(to: int) -> list[Finding]:
            jumps = (Jump(time_s=at(16.0), from_index=15, to_index=to),)
            return found(walk(), jumps=jumps, shape=lambda i, n: replace(n, stretch=1) if i >= max(to, 16) else n)

        self.assertIn("flow.restart", codes(jump(8)))
        self.assertNotIn("flow.restart", codes(jump(16)))
