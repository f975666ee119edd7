"""Thresholds of the ear and of its readings, looked at from both sides."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from didactor.core.hearing.alignment import Alignment, Match
from didactor.core.hearing.groups import Strike, group_material, groups_of, moments_of
from didactor.core.hearing.hearing import Count, ExtraNote, Hearing, NoteHeard, Status
from didactor.core.hearing.line_notes import JudgedLine
from didactor.core.hearing.under_clicks import all_clicks, doubt_under_clicks
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.evidence import NoteJudgement
from didactor.core.judging.judge import judge
from didactor.core.judging.pulse import read_pulse
from didactor.core.judging.readings_of_sound import Opening, opening_after, read_entry, read_hands, read_zones
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from tests.core.test_alignment import event
from tests.core.test_second_looks import by_hand
from tests.music import expectation


def strike(midi: int, time_s: float, strength: float = 0.9, rise: float = 1.0) -> Strike:
    return Strike(time_s=time_s, midi=midi, strength=strength, rise=rise)


class AccusationTests(SimpleTestCase):
    """A D (62) heard where a C (60) is written, from 1 s on."""

    def verdict(
        self, *, own: float = 4.0, written: float = -4.0, length_s: float = 0.5, before: tuple = (), heard: float = 62.0, **kind: float
    ) -> Status:
        class Second:
            def odds(self, midi: int, onset_s: float, seconds: float) -> float:
                return own if midi == 62 else written

        line = JudgedLine(
            features=by_hand([heard] * 100),
            second=Second(),
            events=before,
            alignment=Alignment(matches=(), cost_per_note=0.0, seconds_per_quarter=0.5),
            tuning_cents=0.0,
            tuning_concentration=1.0,
            shift=0,
            expectation=expectation("C4:q D4:q", fifths=0),
        )
        sound = replace(event(62, 1.0, length_s), **kind)
        return line._accuse(sound, sound.offset_s, 2, 60)[0]

    def test_a_clear_other_pitch_is_wrong(self):
        self.assertIs(self.verdict(), Status.WRONG_PITCH)

    def test_a_pitch_that_the_second_opinion_hears_as_written_is_right_or_left_open(self):
        self.assertIs(self.verdict(own=-0.6, written=1.6), Status.CORRECT)
        self.assertIs(self.verdict(own=-0.4, written=1.6), Status.UNCERTAIN)
        self.assertIs(self.verdict(written=-1.4), Status.UNCERTAIN)
        self.assertIs(self.verdict(written=-1.6), Status.WRONG_PITCH)

    def test_the_written_pitch_that_sounds_on_from_just_before_hides_no_other_one(self):
        ended = {"long ago": event(60, 0.2, 0.49), "just before": event(60, 0.2, 0.51), "it never sounded": event(64, 0.2, 0.7)}
        found = {name: self.verdict(own=8.0, written=1.9, before=(sound,)) for name, sound in ended.items()}
        expected = {"long ago": Status.UNCERTAIN, "just before": Status.WRONG_PITCH, "it never sounded": Status.UNCERTAIN}
        self.assertEqual(found, expected)
        self.assertIs(self.verdict(own=8.0, written=2.1, before=(ended["just before"],)), Status.UNCERTAIN)

    def test_frames_at_the_written_pitch_speak_for_the_player_only_where_it_may_have_been_played(self):
        for odds, status in ((-1.9, Status.UNCERTAIN), (-2.1, Status.WRONG_PITCH)):
            self.assertIs(self.verdict(own=-0.4, written=odds, heard=60.0), status, odds)

    def test_what_is_short_unclear_unsteady_or_doubted_names_no_pitch(self):
        for kind, status in (
            ({"length_s": 0.069}, Status.UNCERTAIN),
            ({"length_s": 0.071}, Status.WRONG_PITCH),
            ({"voicing": 0.64}, Status.UNCERTAIN),
            ({"voicing": 0.66}, Status.WRONG_PITCH),
            ({"spread": 0.71}, Status.UNCERTAIN),
            ({"spread": 0.69}, Status.WRONG_PITCH),
            ({"own": -0.51}, Status.UNCERTAIN),
            ({"own": -0.49}, Status.WRONG_PITCH),
        ):
            self.assertIs(self.verdict(**kind), status, kind)


class RepeatedPitchTimeTests(SimpleTestCase):
    """Four repeated notes, half a second each; whether the third tells when it was played."""

    def timed(self, *more: tuple[float, bool], soft: bool = False) -> bool:
        notes = expectation("G4:q G4:q G4:q G4:q | A4:w", fifths=0)
        sounds = [event(67, 0.5 * k, 0.4, soft=soft and k == 2) for k in range(4)] + [event(67, at, 0.1, soft=s) for at, s in more]
        sounds.sort(key=lambda e: e.onset_s)
        matches = tuple(Match(event=next(i for i, e in enumerate(sounds) if e.onset_s == 0.5 * k), note=k, jump=False) for k in range(4))
        line = JudgedLine(
            features=replace(by_hand([67.0] * 200)),
            second=None,
            events=tuple(sounds),
            alignment=Alignment(matches=matches, cost_per_note=0.1, seconds_per_quarter=0.5),
            tuning_cents=0.0,
            tuning_concentration=1.0,
            shift=0,
            expectation=notes,
        )
        return line._is_heard_apart(2, sounds[matches[2].event])

    def test_the_only_sound_that_could_be_it_tells_its_time(self):
        self.assertTrue(self.timed())
        self.assertFalse(self.timed(soft=True))

    def test_one_of_several_parts_of_a_tone_does_not(self):
        self.assertFalse(self.timed((1.2, True)))
        self.assertFalse(self.timed((0.8, False)))
        self.assertTrue(self.timed((0.2, True), (1.7, True)))


class GroupTests(SimpleTestCase):
    def test_strikes_within_sixty_milliseconds_begin_together_each_key_once(self):
        self.assertEqual([len(g.strikes) for g in groups_of([strike(60, 1.0), strike(64, 1.059)])], [2])
        self.assertEqual([len(g.strikes) for g in groups_of([strike(60, 1.0), strike(64, 1.061)])], [1, 1])
        self.assertEqual([len(g.strikes) for g in groups_of([strike(60, 1.0), strike(60, 1.03)])], [1, 1])

    def test_a_group_lies_where_its_stronger_strikes_do(self):
        [group] = groups_of([strike(60, 1.0, 0.9), strike(64, 1.05, 0.1)])
        self.assertAlmostEqual(group.time_s, 1.005)

    def test_faint_strikes_and_those_without_a_rise_are_hardly_clear(self):
        self.assertEqual(strike(60, 1.0, 0.4).clearness, 0.0)
        self.assertEqual(strike(60, 1.0, 0.8).clearness, 1.0)
        self.assertAlmostEqual(strike(60, 1.0, 0.6, rise=0.25).clearness, 0.25)
        self.assertAlmostEqual(strike(60, 1.0, 0.9, rise=0.0).clearness, 0.2)

    def costs(self, *strikes: Strike, optional: bool = False):
        written = expectation("C5+E5:q D5:q", lower="C4:h", name="Piano", fifths=0)
        if optional:
            written = replace(written, notes=tuple(replace(n, optional=True) for n in written.notes))
        return group_material(groups_of(list(strikes)), moments_of(written), written)

    def test_a_pair_costs_what_is_missing_and_what_does_not_belong(self):
        whole = self.costs(strike(60, 1.0), strike(72, 1.0), strike(76, 1.0)).pair[0]
        part = self.costs(strike(60, 1.0), strike(72, 1.0)).pair[0]
        foreign = self.costs(strike(60, 1.0), strike(72, 1.0), strike(76, 1.0), strike(61, 1.0)).pair[0]
        overtone = self.costs(strike(60, 1.0), strike(72, 1.0), strike(76, 1.0), strike(79, 1.0)).pair[0]
        self.assertAlmostEqual(whole[0], 0.0)
        self.assertAlmostEqual(part[0], 1.15 * 0.75 / 3)
        self.assertAlmostEqual(foreign[0], 1.15 * 0.25 / 4)
        self.assertAlmostEqual(overtone[0], 0.0)
        self.assertGreater(whole[1], 0.9)

    def test_what_may_be_left_out_costs_little(self):
        self.assertEqual(self.costs(strike(60, 1.0)).missed.tolist(), [1.0, 1.0])
        self.assertEqual(self.costs(strike(60, 1.0), optional=True).missed.tolist(), [0.15, 0.15])


class ClickTests(SimpleTestCase):
    RHYTHM = expectation("C5:q C5:q C5:q C5:q | C5:q C5:q C5:q C5:q", fifths=0)

    def extra(self, *times: float) -> tuple[ExtraNote, ...]:
        return tuple(ExtraNote(onset_s=t, midi=None, bar="1", pass_=1, beat=0.0) for t in times)

    def hearing(self, **more) -> Hearing:
        notes = tuple(NoteHeard(status=Status.CORRECT, confidence=0.99, onset_s=1.0 + 0.5 * k, timed=True) for k in range(8))
        given = {"notes": notes, "extra": (), "jumps": (), "seconds_per_quarter": 0.5, "share_of_notes": 1.0, "share_of_sounds": 1.0}
        return Hearing(**{**given, "count": Count(written=8, played=8), **more})

    def test_a_stroke_near_a_click_is_doubted_by_how_near_and_how_sure_it_is(self):
        for away, confidence, status in ((0.019, 0.84, "doubt"), (0.021, 0.84, ""), (0.019, 0.86, "")):
            notes = self.hearing().notes
            notes = (*notes[:3], replace(notes[3], confidence=confidence), *notes[4:])
            found = doubt_under_clicks(self.hearing(notes=notes), self.RHYTHM, (2.5 + away,)).notes[3]
            self.assertEqual(found.status is Status.UNCERTAIN, bool(status), (away, confidence))
        for away, doubted in ((0.049, True), (0.051, False)):
            notes = self.hearing().notes
            notes = (*notes[:3], NoteHeard(status=Status.MISSED, confidence=0.9), *notes[4:])
            found = doubt_under_clicks(self.hearing(notes=notes), self.RHYTHM, (2.5 + away,)).notes[3]
            self.assertEqual(found.status is Status.UNCERTAIN, doubted, away)

    def test_strokes_that_go_on_after_the_last_one_are_not_counted_beside_clicks(self):
        more = self.hearing(count=Count(written=8, played=9))
        self.assertIsNone(doubt_under_clicks(more, self.RHYTHM, (9.0,)).count)
        named = self.hearing(count=Count(written=8, played=9), extra=self.extra(3.25))
        self.assertEqual(doubt_under_clicks(named, self.RHYTHM, (9.0,)).count, Count(written=8, played=9))

    def test_few_strokes_or_a_loose_grid_are_no_metronome(self):
        on = [0.7 + 0.5 * k for k in range(9)]
        self.assertTrue(all_clicks(self.hearing(extra=self.extra(*on[:4])), (), 0.5))
        self.assertFalse(all_clicks(self.hearing(extra=self.extra(*on[:3])), (), 0.5))
        self.assertFalse(all_clicks(self.hearing(extra=self.extra(*on[:4])), (), 0.56))
        # Some lie about the grid rather than on it, as a player's do.
        about = [t + (0.03 if k in (1, 4) else 0.0) for k, t in enumerate(on)]
        self.assertFalse(all_clicks(self.hearing(extra=self.extra(*about)), (), 0.5))
        # Others lie far from it: strokes too many beside a metronome.
        far = sorted([*on, *(t + 0.2 for t in on[:6])])
        self.assertTrue(all_clicks(self.hearing(extra=self.extra(*far)), (), 0.5))
        farther = sorted([*on, *(t + 0.2 for t in on[:7])])
        self.assertFalse(all_clicks(self.hearing(extra=self.extra(*farther)), (), 0.5))

    def test_clicks_that_were_taken_out_tell_the_rest(self):
        clicks = all_clicks(self.hearing(), (0.5, 1.0, 1.5, 2.0), 0.5)
        self.assertGreaterEqual(max(clicks), 4.4)


class ReadingTests(SimpleTestCase):
    def hands(self, moments: int, later_s: float = 0.0) -> tuple | None:
        written = expectation("C5:q D5:q E5:q F5:q | G5:q A5:q B5:q C6:q", lower="C3:q D3:q E3:q F3:q | r:w", name="Piano", fifths=0)
        notes = [
            NoteJudgement(
                note=n,
                status=Status.CORRECT if n.staff == 1 or n.onset_quarters < moments else Status.MISSED,
                confidence=0.9,
                onset_s=1.0 + 0.5 * n.onset_quarters + (later_s if n.staff == 2 else 0.0),
            )
            for n in written.notes
        ]
        return read_hands(notes, written)

    def test_hands_are_compared_from_four_moments_on(self):
        self.assertIsNone(self.hands(3))
        upper, lower = self.hands(4, later_s=0.05)
        self.assertAlmostEqual(upper.asynchrony_ms, -50.0)
        self.assertAlmostEqual(lower.asynchrony_ms, 50.0)
        self.assertEqual((lower.together, round(lower.spread_ms, 6)), (4, 0.0))
        self.assertIsNone(upper.balance_db)

    def test_the_balance_of_hands_needs_two_moments_with_levels_and_five_with_clearness(self):
        written = expectation(
            " | ".join(["C5:q D5:q E5:q F5:q"] * 2), lower=" | ".join(["C3:q D3:q E3:q F3:q"] * 2), name="Piano", fifths=0
        )

        def upper(levels: int, clear: int) -> tuple[float | None, float | None]:
            notes = [
                NoteJudgement(
                    note=n,
                    status=Status.CORRECT,
                    confidence=0.9,
                    onset_s=0.5 * n.onset_quarters,
                    own_db=(-20.0 if n.staff == 1 else -26.0) if n.onset_quarters < levels else None,
                    clearness=(0.9 if n.staff == 1 else 0.8) if n.onset_quarters < clear else None,
                )
                for n in written.notes
            ]
            hand = read_hands(notes, written)[0]
            return hand.balance_db, None if hand.clearer is None else round(hand.clearer, 6)

        self.assertEqual(upper(1, 4), (None, None))
        self.assertEqual(upper(2, 5), (6.0, 0.1))

    def test_a_zone_of_loudness_has_three_notes_and_ends_with_its_mark(self):
        written = expectation("C5:q!p D5:q E5:q F5:q!f | G5:q A5:q B5:q!mf C6:q", fifths=0)
        notes = [
            NoteJudgement(note=n, status=Status.CORRECT, confidence=0.9, onset_s=0.5 * k, loudness_db=float(k))
            for k, n in enumerate(written.notes)
        ]
        self.assertEqual(
            [(z.marked, z.from_bar, z.to_bar, z.db, z.notes) for z in read_zones(notes)], [("p", "1", "1", 1.0, 3), ("f", "1", "2", 4.0, 3)]
        )
        self.assertIsNone(read_zones([replace(n, loudness_db=None) for n in notes]))
        self.assertIsNone(read_zones([replace(n, status=Status.UNCERTAIN) for n in notes]))

    def test_where_placement_is_not_judged_nothing_is_early_or_late_in_any_unit(self):
        written = expectation(" | ".join(["C5:q D5:q E5:q F5:q"] * 3), fifths=0)
        notes = tuple(
            NoteHeard(status=Status.CORRECT, confidence=0.9, onset_s=1 + 0.5 * k + (0.2 if k == 6 else 0.0), heard_midi=72, timed=True)
            for k in range(12)
        )
        hearing = Hearing(notes=notes, extra=(), jumps=(), seconds_per_quarter=0.5, share_of_notes=1.0, share_of_sounds=1.0)
        for stage, told in (("first_reading", False), ("at_tempo", True)):
            found = judge(hearing, written, Targets(tempo_qpm=120.0, stage=stage), BY_SLUG["clarinet"]).notes[6]
            self.assertEqual((found.early_late_ms is not None, found.early_late_quarters is not None), (told, told), stage)

    def test_the_first_note_is_due_a_beat_after_the_last_click(self):
        written = expectation("C5:q D5:q E5:q F5:q", fifths=0)
        opening = opening_after((0.5, 1.0, 1.5, 2.0), written)
        self.assertEqual((opening.start_s, opening.quarter_s), (2.5, 0.5))
        self.assertIsNone(opening_after((0.5,), written))
        self.assertEqual(self.entry(opening, 2.75), 0.5)
        self.assertEqual(self.entry(opening, 2.4, began_s=2.55), 0.1)
        self.assertEqual(self.entry(opening, 2.4, began_s=2.2), -0.2)
        self.assertIsNone(self.entry(opening, 2.5, timed=False))
        self.assertIsNone(self.entry(None, 2.5))

    def entry(self, opening: Opening | None, onset_s: float, began_s: float | None = None, timed: bool = True) -> float | None:
        written: Expectation = expectation("C5:q D5:q E5:q F5:q", fifths=0)
        first = NoteHeard(status=Status.CORRECT, confidence=0.9, onset_s=onset_s, began_s=began_s, timed=timed)
        hearing = Hearing(notes=(first,) * 4, extra=(), jumps=(), seconds_per_quarter=0.5, share_of_notes=1.0, share_of_sounds=1.0)
        found = read_entry(hearing, written, opening)
        return None if found is None else round(found.early_late_quarters, 6)


class PulseTests(SimpleTestCase):
    def pauses(self, *gaps: tuple[int, float], quarter_s: float = 0.6, count: int = 16) -> list[int]:
        """Where a hesitation is told of quarters, with so many seconds more before some of them."""
        quarters = np.arange(count, dtype=float)
        times = quarters * quarter_s
        for at, extra_s in gaps:
            times[at:] += extra_s
        pulse = read_pulse(quarters, times, np.zeros(count, dtype=bool), np.ones(count), quarter_s)
        return np.flatnonzero(pulse.hesitation).tolist()

    def test_a_hesitation_is_longer_than_half_a_beat_and_than_a_third_of_a_second(self):
        self.assertEqual(self.pauses((8, 0.34)), [])
        self.assertEqual(self.pauses((8, 0.37)), [8])
        self.assertEqual(self.pauses((8, 0.48), quarter_s=1.0), [])
        self.assertEqual(self.pauses((8, 0.52), quarter_s=1.0), [8])

    def test_time_that_is_made_good_at_once_was_a_late_note(self):
        self.assertEqual(self.pauses((8, 0.4), (9, -0.4)), [])
        self.assertEqual(self.pauses((8, 0.4), (9, -0.1)), [8])

    def test_three_moments_have_no_pulse(self):
        for count, has in ((3, False), (4, True)):
            quarters = np.arange(count, dtype=float)
            pulse = read_pulse(quarters, 0.6 * quarters, np.zeros(count, dtype=bool), np.ones(count), 0.6)
            self.assertEqual(pulse is not None, has)


class OwnTuningTests(SimpleTestCase):
    def concentration(self, cents: list[float]) -> float:
        line = JudgedLine(
            features=None,
            second=None,
            events=(),
            alignment=Alignment(matches=(), cost_per_note=0.0, seconds_per_quarter=0.5),
            tuning_cents=3.0,
            tuning_concentration=0.4,
            shift=0,
            expectation=expectation("C4:q D4:q", fifths=0),
        )
        line.__dict__["steady_cents"] = dict(enumerate(cents))
        return line.own_concentration

    def test_notes_tell_how_closely_a_take_keeps_to_one_grid(self):
        self.assertGreater(self.concentration([-26.0, -24.0, -28.0, -25.0, -30.0]), 0.99)
        self.assertLess(self.concentration([-50.0, -25.0, 0.0, 25.0, 50.0]), 0.3)
        # With few of them the frames have to do.
        self.assertEqual(self.concentration([-26.0] * 4), 0.4)


class InstrumentTests(SimpleTestCase):
    def test_ranges_grow_with_the_level(self):
        for slug in ("flute", "trumpet", "cello"):
            low, high = zip(
                *(BY_SLUG[slug].range_at(level) for level in ("beginner", "elementary", "intermediate", "advanced")), strict=True
            )
            self.assertEqual(list(low), sorted(low, reverse=True), slug)
            self.assertEqual(list(high), sorted(high), slug)
            self.assertEqual(BY_SLUG[slug].range_at("master"), (BY_SLUG[slug].low, BY_SLUG[slug].high))
