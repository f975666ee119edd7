"""The checks of flow, rhythm and tempo on takes made by hand: just beyond the limit is said, just within is not."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from django.test import SimpleTestCase

from didactor.core.hearing.hearing import Count, ExtraNote, Jump, NoteHeard
from didactor.core.judging.readings_of_sound import Opening, opening_after
from didactor.core.judging.registry import Finding
from didactor.core.score.expected import without_notation
from tests.core.by_hand import MISSED, PAIRS, QUARTER_S, at, codes, found, late, walk
from tests.music import expectation


class FlowTests(SimpleTestCase):
    def pause(self, seconds: float, **targets: Any) -> list[Finding]:
        """All notes from bar 5 on come later by so much."""
        tune = expectation()
        return found(tune, shape=lambda i, n: late(n, seconds) if i >= 16 else n, targets=targets)

    def test_a_pause_from_half_a_beat_on(self):
        self.assertEqual(self.pause(0.30), [])
        [finding] = self.pause(0.60)
        self.assertEqual((finding.code, finding.bar, finding.beat), ("flow.hesitation", "5", 0.0))
        self.assertAlmostEqual(finding.size, 0.6, delta=0.06)
        self.assertEqual(self.pause(0.60, stage="first_reading"), [])

    def test_going_back_is_a_restart_unless_one_is_reading(self):
        jump = (Jump(time_s=14.0, from_index=15, to_index=6),)

        def again(index: int, note: NoteHeard) -> NoteHeard:
            return replace(late(note, 9.0), stretch=1) if index >= 6 else note

        [finding] = found(expectation(), shape=again, jumps=jump)
        self.assertEqual((finding.code, finding.text), ("flow.restart", "Breaks off in bar 4 and starts again from bar 2."))
        self.assertEqual(found(expectation(), shape=again, jumps=jump, targets={"stage": "first_reading"}), [])

    def test_bars_left_out_are_one_remark_and_their_notes_none(self):
        def skipping(index: int, note: NoteHeard) -> NoteHeard:
            if 16 <= index < 25:
                return replace(note, **MISSED)
            return replace(late(note, -8 * QUARTER_S), stretch=1) if index >= 25 else note

        [finding] = found(expectation(), shape=skipping)
        self.assertEqual((finding.code, finding.text, finding.size), ("flow.skipped", "Bars 5 to 6 are left out.", 2.0))

    def test_the_end_of_one_pass_and_the_beginning_of_the_next_are_a_repeat_not_taken(self):
        tune = walk("|: C4:q D4:q E4:q F4:q | G4:q F4:q E4:q D4:q :| C4:q E4:q G4:q E4:q | C4:w")

        def skipping(index: int, note: NoteHeard) -> NoteHeard:
            if 4 <= index < 12:
                return replace(note, **MISSED)
            return replace(late(note, -8 * QUARTER_S), stretch=1) if index >= 12 else note

        self.assertEqual(found(tune, shape=skipping)[0].text, "The repeat of bars 1 to 2 is not taken.")

    def test_a_repeat_that_is_not_taken(self):
        tune = walk("|: C4:q D4:q E4:q F4:q | G4:q F4:q E4:q D4:q :| C4:q E4:q G4:q E4:q | C4:w")
        second = [i for i, n in enumerate(tune.notes) if n.pass_ == 2]

        def once(index: int, note: NoteHeard) -> NoteHeard:
            if index in second:
                return replace(note, **MISSED)
            return replace(late(note, -8 * QUARTER_S), stretch=1) if index > second[-1] else note

        [finding] = found(tune, shape=once)
        self.assertEqual((finding.code, finding.text), ("flow.repeat_left_out", "The repeat of bars 1 to 2 is not taken."))

    def test_an_end_that_is_not_played(self):
        tune = expectation()
        findings = found(tune, dict.fromkeys(range(25, 32), MISSED))
        self.assertEqual(codes(findings), ["flow.unplayed"])

    def test_more_or_fewer_bars_than_the_line_has(self):
        def length(played: int, bars: int, pace: float = 1.0) -> list[tuple[str, float | None]]:
            heard = walk(" | ".join(["C4:q D4:q E4:q F4:q"] * played))

            def paced(index: int, note: NoteHeard) -> NoteHeard:
                return late(note, (pace - 1.0) * QUARTER_S * heard.notes[index].onset_quarters)

            findings = found(heard, shape=paced, written=without_notation(bars, 4, 4), targets={"stage": "first_reading"})
            return [(f.code, f.size) for f in findings if f.category == "flow"]

        self.assertEqual(length(7, 4), [("flow.length", 3.0)])
        self.assertEqual(length(6, 4), [("flow.length", 2.0)])
        self.assertEqual(length(5, 4), [])  # an upbeat, or a last note held on
        self.assertEqual(length(8, 8), [])
        self.assertEqual(length(7, 8), [])  # a last bar of one held note
        self.assertEqual(length(5, 8), [("flow.length", -3.0)])
        # Played quicker, the clock leaves it to the bars: two of them short is short.
        self.assertEqual(length(14, 16, pace=0.85), [("flow.length", -2.0)])
        self.assertEqual(length(15, 16, pace=0.78), [])
        # Beats read double or half: by the clock it is the line.
        self.assertEqual(length(8, 4, pace=0.5), [])
        self.assertEqual(length(4, 8, pace=2.0), [])


class RhythmTests(SimpleTestCase):
    def one_late(self, ms: float, instrument: str = "piano", **targets: Any) -> list[Finding]:
        return found(walk(), {13: {"onset_s": at(13.0) + ms / 1000}}, instrument=instrument, targets=targets)

    def test_one_note_off_its_place_by_the_stage(self):
        self.assertEqual(self.one_late(60), [])
        [finding] = self.one_late(130)
        self.assertEqual((finding.code, finding.bar, finding.beat), ("rhythm.placement", "4", 1.0))
        self.assertIn("comes 0.13 s late", finding.text)
        self.assertEqual(codes(self.one_late(-130)), ["rhythm.placement"])
        # Reading allows more, a final less.
        self.assertEqual(self.one_late(115, stage="sight_reading"), [])
        self.assertEqual(self.one_late(300, stage="first_reading"), [])
        self.assertEqual(codes(self.one_late(85, stage="final")), ["rhythm.placement"])

    def test_a_first_note_without_near_neighbours_is_blamed_only_beyond_what_is_unsure(self):
        # In between nothing tells its time: whether the first note is late, the rest of the pulse must say from four quarters away.
        tune = walk()
        quiet = {k: {"timed": False} for k in range(1, 5)}
        near, far = 0.3, 0.8
        self.assertEqual(codes(found(tune, {0: {"onset_s": at(0.0) + near}})), ["rhythm.placement"])
        self.assertEqual(codes(found(tune, {**quiet, 0: {"onset_s": at(0.0) + near}})), [])
        self.assertEqual(codes(found(tune, {**quiet, 0: {"onset_s": at(0.0) + far}})), ["rhythm.placement"])

    def test_a_slow_beat_is_divided_by_whoever_feels_it(self):
        half_notes = walk(" | ".join(["C4:h G4:h"] * 8), beats=2, beat_type=2)
        place = {"onset_s": at(14.0) + 0.08}
        self.assertEqual(codes(found(half_notes, {7: place}, instrument="piano")), ["rhythm.placement"])
        self.assertEqual(found(half_notes, {7: {"onset_s": at(14.0) + 0.07}}, instrument="piano"), [])

    def test_a_sound_that_grows_is_given_the_benefit_of_the_doubt(self):
        self.assertEqual(codes(self.one_late(73.5, instrument="piano")), ["rhythm.placement"])
        self.assertEqual(self.one_late(73.5, instrument="violin"), [])
        self.assertEqual(codes(self.one_late(77, instrument="violin")), ["rhythm.placement"])

    def test_pairs_that_limp_are_one_remark(self):
        def limping(percent: float) -> list[Finding]:
            return found(walk(PAIRS), shape=lambda i, n: late(n, QUARTER_S * (percent / 100 - 0.5)) if i % 2 else n)

        self.assertEqual(limping(52), [])
        [finding] = limping(62)
        self.assertEqual(finding.code, "rhythm.uneven")
        self.assertAlmostEqual(finding.size, 62, delta=0.5)

    def entry(self, seconds: float) -> list[Finding]:
        clicks = tuple(at(0.0) - QUARTER_S * k for k in (4, 3, 2, 1))
        return found(walk(), shape=lambda i, n: late(n, seconds), opening=opening_after(clicks, walk()))

    def leaving(self, seconds: float, bars: range = range(3, 6)) -> list[Finding]:
        """Some bars come so much after the accompaniment."""
        notes = walk().notes
        along = Opening(start_s=at(0.0), quarter_s=QUARTER_S, goes_on=True)
        shape = lambda i, n: late(n, seconds) if int(notes[i].bar) in bars else n  # noqa: E731
        return [f for f in found(walk(), shape=shape, opening=along) if f.code == "rhythm.together"]

    def test_bars_that_leave_the_accompaniment(self):
        self.assertEqual(self.leaving(0.19 * QUARTER_S), [])
        [behind] = self.leaving(0.22 * QUARTER_S)
        self.assertEqual((behind.code, behind.bar), ("rhythm.together", "3"))
        self.assertIn("Bars 3 to 5 are behind", behind.text)
        [ahead] = self.leaving(-0.3 * QUARTER_S)
        self.assertAlmostEqual(ahead.size, -0.3, delta=0.02)
        self.assertEqual(self.leaving(0.4 * QUARTER_S, range(3, 4)), [], "one bar is a matter of single notes")

    def test_the_entry_against_the_count_off(self):
        self.assertEqual(self.entry(0.12), [])
        [finding] = self.entry(QUARTER_S)
        self.assertEqual((finding.code, finding.text), ("rhythm.entry", "The entry comes 1.0 beats late."))
        self.assertIn("early", self.entry(-0.5 * QUARTER_S)[0].text)

    def test_strokes_are_counted_unless_each_has_its_remark(self):
        step = {"step": "clap"}
        self.assertEqual(found(walk(), count=Count(written=32, played=32), targets=step), [])
        [finding] = found(walk(), count=Count(written=32, played=35), targets=step)
        self.assertEqual((finding.code, finding.text), ("rhythm.count", "3 strokes too many: 32 are written, 35 were played."))
        stray = (ExtraNote(onset_s=3.0, midi=None, bar="2", pass_=1, beat=0.5),)
        self.assertEqual(codes(found(walk(), count=Count(written=32, played=33), extra=stray, targets=step)), ["notes.extra"])


class TempoTests(SimpleTestCase):
    def at_tempo(self, factor: float, **targets: Any) -> list[Finding]:
        faster = found(
            walk(),
            shape=lambda i, n: replace(n, onset_s=1 + ((n.onset_s or 0) - 1) / factor, offset_s=1 + ((n.offset_s or 0) - 1) / factor),
            seconds_per_quarter=QUARTER_S / factor,
            targets=targets,
        )
        return faster

    def test_the_band_of_the_stage_or_of_the_assignment(self):
        self.assertEqual(self.at_tempo(1.04), [])
        [finding] = self.at_tempo(1.08)
        self.assertEqual(finding.text, "Played at quarter = 97, 8 % above the target.")
        self.assertIn("below the target", self.at_tempo(0.9)[0].text)
        self.assertEqual(self.at_tempo(1.08, band_percent=10.0), [])
        self.assertEqual(self.at_tempo(0.9, tempo_qpm=80.0, tempo_to_qpm=90.0), [])
        # Steady: any tempo up to the target.
        self.assertEqual(self.at_tempo(0.7, stage="steady"), [])
        self.assertEqual(codes(self.at_tempo(1.1, stage="steady")), ["tempo.off_target"])

    def broadening(self, share: float, **targets: Any) -> list[Finding]:
        """Bar 4 at a share of the tempo, back at once."""
        return found(walk(), shape=lambda i, n: late(n, (1 / share - 1) * QUARTER_S * min(max(i - 12, 0), 4)), targets=targets)

    def test_a_bend_is_one_remark_and_only_where_an_even_pulse_is_asked_for(self):
        for share in (0.9, 0.7, 0.63):
            self.assertEqual(self.broadening(share), [], "at tempo it is how a phrase breathes")
        self.assertEqual(self.broadening(0.88, stage="steady"), [])
        [finding] = self.broadening(0.7, stage="steady")
        self.assertEqual(finding.code, "tempo.bend")
        self.assertEqual(finding.text, "The tempo broadens in bar 4, to 70 % of what is usual here. It is back in bar 5.")
        [finding] = self.broadening(1.3, stage="steady")
        self.assertIn("presses on in bar 4, to 130 %", finding.text)

    def drifting(self, percent: float) -> list[Finding]:
        """Bar after bar quicker by so much."""
        times = [1.0]
        for k in range(40):
            times.append(times[-1] + QUARTER_S / (1 + percent / 100) ** (k / 4 - 4))
        return found(walk(), shape=lambda i, n: replace(n, onset_s=times[i], offset_s=times[i] + 0.5))

    def test_time_that_wanders_is_no_drift_wherever_it_ends(self):
        paces = [1.0, 1.12, 0.92, 1.05, 0.86, 0.98, 0.82, 0.93]
        starts = [sum(4 * QUARTER_S * p for p in paces[:k]) for k in range(8)]

        def wandering(index: int, note: NoteHeard) -> NoteHeard:
            onset = 1.0 + starts[index // 4] + paces[index // 4] * QUARTER_S * (index % 4)
            return replace(note, onset_s=onset, offset_s=onset + 0.5)

        self.assertNotIn("tempo.drift", codes(found(walk(), shape=wandering)))

    def test_a_tempo_that_rises_steadily(self):
        self.assertEqual(self.drifting(0.6), [])
        [finding] = self.drifting(2.0)
        self.assertEqual(finding.code, "tempo.drift")
        self.assertIn("The tempo rises steadily", finding.text)
        self.assertIn("falls", self.drifting(-2.0)[0].text)
