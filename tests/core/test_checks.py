"""Every check on evidence made by hand: what is just beyond its limit is said, what is just within is not. No sound, no ear."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.test import SimpleTestCase

from didactor.core.hearing.hearing import ChordReading, Count, ExtraNote, Hearing, Jump, NoteHeard, Status, Tuning
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.checks.upper_voice import is_covered
from didactor.core.judging.evidence import Hand
from didactor.core.judging.judge import judge
from didactor.core.judging.readings_of_sound import Opening, opening_after
from didactor.core.judging.registry import Finding, all_checks, run_checks
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation, ExpectedHairpin, without_notation
from tests.music import TUNE, expectation

QPM = 90.0
QUARTER_S = 60.0 / QPM
#: Eight bars of quarters that rise and fall, for what needs many notes alike.
WALK = " | ".join(["C4:q D4:q E4:q F4:q", "G4:q F4:q E4:q D4:q"] * 4)
PAIRS = " | ".join(["C4:e D4:e E4:e F4:e G4:e F4:e E4:e D4:e"] * 4)
HANDS = {"text": WALK, "lower": " | ".join(["C3:q G3:q C3:q G3:q"] * 8), "name": "Piano", "fifths": 0}

Edits = Mapping[int, Mapping[str, Any]]


def walk(text: str = WALK, **line: Any) -> Expectation:
    return expectation(text, fifths=0, **line)


def at(quarters: float) -> float:
    """When a note of a faultless take begins, in seconds."""
    return 1.0 + QUARTER_S * quarters


def found(
    expected: Expectation,
    edits: Edits | None = None,
    *,
    shape: Callable[[int, NoteHeard], NoteHeard] = lambda index, note: note,
    instrument: str = "clarinet",
    targets: Mapping[str, Any] | None = None,
    opening: Opening | None = None,
    written: Expectation | None = None,
    **hearing: Any,
) -> list[Finding]:
    """Findings on a faultless take in which some notes (index to changed fields) were heard otherwise; ``shape`` changes all of them.

    ``written`` is a passage without notation, of which ``expected`` is the rhythm that was heard.
    """
    notes = []
    for index, note in enumerate(expected.notes):
        heard = NoteHeard(
            status=Status.CORRECT,
            confidence=0.95,
            onset_s=at(note.onset_quarters),
            offset_s=at(note.onset_quarters + 0.9 * note.duration_quarters),
            heard_midi=note.sounding_midi,
            cents=0.0,
            loudness_db=-20.0,
            own_db=-20.0,
            timed=True,
        )
        notes.append(replace(shape(index, heard), **(edits or {}).get(index, {})))
    made = {"extra": (), "jumps": (), "seconds_per_quarter": QUARTER_S, "share_of_notes": 1.0, "share_of_sounds": 1.0, **hearing}
    aims = {"tempo_qpm": QPM, "instrument": instrument, **(targets or {})}
    heard = Hearing(notes=tuple(notes), rhythm=expected if written else None, **made)
    return run_checks(judge(heard, written or expected, Targets(**aims), BY_SLUG[instrument], opening=opening))


def codes(findings: Sequence[Finding]) -> list[str]:
    return [f.code for f in findings]


def late(note: NoteHeard, seconds: float) -> NoteHeard:
    return replace(note, onset_s=(note.onset_s or 0.0) + seconds, offset_s=(note.offset_s or 0.0) + seconds)


MISSED = {"status": Status.MISSED, "onset_s": None, "offset_s": None, "heard_midi": None, "cents": None, "timed": False}


def wrong(expected: Expectation, index: int, semitones: int) -> dict[str, Any]:
    return {"status": Status.WRONG_PITCH, "heard_midi": expected.notes[index].sounding_midi + semitones, "cents": None}


class NotesTests(SimpleTestCase):
    def test_a_late_note_is_told_by_what_the_stage_asks(self):
        tune = walk()
        for stage, within, beyond in (("steady", 124.0, 132.0), ("at_tempo", 71.0, 79.0), ("final", 64.0, 72.0)):

            def said(ms: float, stage: str = stage) -> list[str]:
                return codes(found(tune, shape=lambda i, n: late(n, ms / 1000) if i == 17 else n, targets={"stage": stage}))

            self.assertEqual((said(within), said(beyond)), ([], ["rhythm.placement"]), stage)
            self.assertEqual((said(-within), said(-beyond)), ([], ["rhythm.placement"]), stage)

    def test_a_faultless_take_has_no_finding_at_any_stage(self):
        for stage in ("first_reading", "steady", "at_tempo", "sight_reading", "rehearsal", "final"):
            self.assertEqual(found(expectation(), targets={"stage": stage}), [], stage)

    def test_a_wrong_note_is_named_with_both_pitches(self):
        tune = expectation()
        [finding] = found(tune, {20: wrong(tune, 20, 2)})
        self.assertEqual((finding.code, finding.bar, finding.beat, finding.size), ("notes.wrong", "6", 0.0, 2.0))
        self.assertEqual(finding.text, "Bar 6, beat 1: E is written, F sharp is played.")

    def test_a_missed_note_is_heard_between_its_neighbours(self):
        [finding] = found(expectation(), {17: MISSED})
        self.assertEqual((finding.code, finding.text), ("notes.missed", "Bar 5, beat 2: B is missing."))
        self.assertEqual((finding.start_s, finding.end_s), (at(17.0), at(19.0)))

    def test_an_optional_note_may_be_left_out(self):
        tune = expectation()
        notes = tuple(replace(n, optional=i == 17) for i, n in enumerate(tune.notes))
        self.assertEqual(found(replace(tune, notes=notes), {17: MISSED}), [])

    def test_an_extra_note_and_too_many_of_them(self):
        def extras(count: int) -> tuple[ExtraNote, ...]:
            return tuple(ExtraNote(onset_s=2.0 + k, midi=70, bar="2", pass_=1, beat=1.0) for k in range(count))

        [finding] = found(expectation(), extra=extras(1))
        self.assertEqual(finding.text, "Bar 2, near beat 2: an extra B flat that is not written.")
        self.assertEqual(codes(found(expectation(), extra=extras(7))), ["notes.extra"] * 7)
        self.assertEqual(codes(found(expectation(), extra=extras(8))), ["other.sounds"])

    def test_a_forgotten_key_signature_is_one_remark(self):
        tune = expectation()
        sharps = [i for i, n in enumerate(tune.notes) if n.written_pitch.startswith("F#")]
        [finding] = found(tune, {i: wrong(tune, i, -1) for i in sharps})
        self.assertEqual(finding.code, "notes.key_signature")
        self.assertIn("The F sharp of the key is played as F, in bars 1, 2, 3, 8.", finding.text)
        # One slip is a slip.
        self.assertEqual(codes(found(tune, {sharps[0]: wrong(tune, sharps[0], -1)})), ["notes.wrong"])

    def test_everything_elsewhere_is_one_remark(self):
        for shift, words in ((12, "an octave higher"), (-24, "2 octaves lower"), (3, "3 semitones higher")):
            [finding] = found(expectation(), shift=shift)
            self.assertEqual(finding.code, "notes.transposed")
            self.assertIn(words, finding.text)
        horn = expectation(transposition=-7)
        [finding] = found(horn, shift=7)
        self.assertIn("transposition of this instrument was not made", finding.text)


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

    def test_a_slow_beat_is_divided_by_whoever_feels_it(self):
        half_notes = walk(" | ".join(["C4:h G4:h"] * 8), beats=2, beat_type=2)
        place = {"onset_s": at(14.0) + 0.095}
        self.assertEqual(codes(found(half_notes, {7: place}, instrument="piano")), ["rhythm.placement"])
        self.assertEqual(found(half_notes, {7: {"onset_s": at(14.0) + 0.085}}, instrument="piano"), [])

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
        self.assertEqual(finding.text, "The tempo broadens in bar 4, to 70 % of what is usual here, back in bar 5.")
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


class IntonationTests(SimpleTestCase):
    def test_one_note_out_of_tune(self):
        def cents(value: float, index: int = 15) -> list[Finding]:
            return found(expectation(), {index: {"cents": value}})

        self.assertEqual(cents(20.0), [])
        [finding] = cents(-32.0)
        self.assertEqual((finding.code, finding.text), ("intonation.note", "Bar 4, beat 1: D is 32 cents flat."))
        # Short notes are heard less finely.
        self.assertEqual(cents(28.0, index=10), [])

    def test_the_whole_take_and_its_drift(self):
        tuned = Tuning(a4_hz=447.0, offset_cents=28.0, concentration=0.9)
        [finding] = found(walk(), tuning=tuned)
        self.assertEqual(finding.code, "intonation.tuning")
        self.assertIn("28 cents sharp throughout (A = 447 Hz)", finding.text)
        self.assertEqual(found(walk(), tuning=replace(tuned, offset_cents=15.0)), [])
        self.assertEqual(found(walk(), tuning=replace(tuned, concentration=0.3)), [])
        [finding] = found(walk(), shape=lambda i, n: replace(n, cents=0.8 * (i - 16)))
        self.assertEqual((finding.code, round(finding.size)), ("intonation.drift", 25))
        self.assertEqual(found(walk(), shape=lambda i, n: replace(n, cents=0.4 * (i - 16))), [])


class LengthAndLoudnessTests(SimpleTestCase):
    def test_a_long_note_cut_short_and_a_rest_played_through(self):
        tune = expectation()
        end = at(tune.notes[15].onset_quarters)

        def until(quarters: float, instrument: str = "clarinet", **targets: Any) -> list[Finding]:
            return found(tune, {15: {"offset_s": end + quarters * QUARTER_S}}, instrument=instrument, targets=targets)

        self.assertEqual(until(2.4), [])
        [finding] = until(1.5)
        self.assertEqual((finding.code, finding.bar), ("articulation.cut_short", "4"))
        self.assertIn("after 50 % of its length", finding.text)
        [finding] = until(3.9)
        self.assertEqual(finding.code, "articulation.rest_filled")
        for quarters in (1.5, 3.9):
            self.assertEqual(until(quarters, instrument="piano"), [], "a piano's sound fades by itself")
            self.assertEqual(until(quarters, stage="first_reading"), [])

    def test_who_plays_everything_detached_has_cut_nothing_short(self):
        halves = walk(" | ".join(["C4:h E4:h", "G4:h E4:h"] * 3))

        def played(usual: float, third: float) -> list[Finding]:
            return found(
                halves,
                shape=lambda i, n: replace(n, offset_s=(n.onset_s or 0) + (third if i == 3 else usual) * 2 * QUARTER_S),
            )

        self.assertEqual(played(0.58, 0.58), [])
        self.assertEqual(played(0.58, 0.42), [])
        self.assertEqual(codes(played(0.58, 0.38)), ["articulation.cut_short"])
        self.assertEqual(codes(played(0.95, 0.58)), ["articulation.cut_short"])
        self.assertEqual(played(0.95, 0.65), [])

    def test_loud_and_soft_alike(self):
        tune = walk()
        marked = replace(tune, notes=tuple(replace(n, dynamics="p" if i < 16 else "f") for i, n in enumerate(tune.notes)))
        self.assertEqual(found(marked, shape=lambda i, n: replace(n, loudness_db=-24.0 if i < 16 else -17.0)), [])
        [finding] = found(marked)
        self.assertEqual((finding.code, finding.text), ("dynamics.flat", "Loud and soft hardly differ: f (bar 5) against p (bar 1)."))

    def test_a_crescendo_that_does_not_grow(self):
        tune = walk()
        notes = tuple(replace(n, dynamics="mf") for n in tune.notes)
        grown = replace(tune, notes=notes, hairpins=(ExpectedHairpin(begin_quarters=8.0, end_quarters=16.0, growing=True),))
        self.assertEqual(found(grown, shape=lambda i, n: replace(n, loudness_db=-24.0 + 0.6 * min(max(i - 8, 0), 8))), [])
        [finding] = found(grown)
        self.assertEqual(finding.code, "dynamics.hairpin")
        self.assertIn("Bars 3 to 4: the crescendo does not grow", finding.text)

        def by(db: float, scatter: float = 0.0) -> list[Finding]:
            """Eight notes that grow by so much from the first to the last, with every other one louder by a scatter."""
            return found(grown, shape=lambda i, n: replace(n, loudness_db=-24.0 + db / 7 * min(max(i - 8, 0), 7) + scatter * (i % 2)))

        self.assertEqual((codes(by(0.4)), by(0.6)), (["dynamics.hairpin"], []))
        self.assertEqual((codes(by(0.2, 0.5)), by(0.2, 3.0)), (["dynamics.hairpin"], []), "a level that jumps about says nothing")

    def test_accents_no_louder_than_the_rest(self):
        tune = walk()
        notes = tuple(replace(n, dynamics="mf", articulations=("accent",) if i % 4 == 0 else ()) for i, n in enumerate(tune.notes))
        accented = replace(tune, notes=notes)
        self.assertEqual(found(accented, shape=lambda i, n: replace(n, loudness_db=-16.5 if i % 4 == 0 else -20.0)), [])
        self.assertEqual(codes(found(accented)), ["dynamics.accents"])


class HandsAndChordsTests(SimpleTestCase):
    def test_one_hand_after_the_other(self):
        both = expectation(**HANDS)

        def apart(ms: float) -> list[Finding]:
            return found(both, shape=lambda i, n: late(n, ms / 1000) if both.notes[i].staff == 2 else n, instrument="piano")

        self.assertEqual(apart(20.0), [])
        [finding] = apart(70.0)
        self.assertEqual((finding.code, finding.text[:35]), ("hands.apart", "The left hand comes 0.07 s after th"))

    def test_a_melody_under_its_accompaniment(self):
        both = expectation(**HANDS)

        def louder(db: float, instrument: str = "piano") -> list[str]:
            def shape(index: int, note: NoteHeard) -> NoteHeard:
                upper = both.notes[index].staff == 1
                return replace(note, own_db=-20.0 + (db if upper else 0.0), clearness=0.9 + (0.06 * min(db, 0.0) if upper else 0.0))

            return codes(found(both, shape=shape, instrument=instrument))

        self.assertEqual(louder(3.0), [])
        self.assertEqual(louder(-9.0), ["dynamics.upper_voice"])
        self.assertEqual(louder(-9.0, "ukulele"), [])  # strings are not alike

    def test_level_and_clearness_both_say_that_a_voice_is_covered(self):
        def covered(balance_db: float | None, clearer: float | None) -> bool:
            hand = Hand(staff=1, asynchrony_ms=0.0, early_late_ms=0.0, spread_ms=0.0, together=8, balance_db=balance_db, clearer=clearer)
            return is_covered(hand)

        self.assertTrue(covered(-6.0, -0.2))  # each as much as is unusual by itself
        self.assertFalse(covered(-5.9, -0.19))
        self.assertFalse(covered(-30.0, -0.07))  # softer, but as clear
        self.assertFalse(covered(-1.9, -0.9))
        self.assertTrue(covered(None, -0.29))
        self.assertFalse(covered(None, -0.27))
        self.assertFalse(covered(-30.0, None))

    def test_another_chord_is_named_once_for_a_run_of_strokes(self):
        tune = walk()

        def strummed(wrong_ones: range) -> list[Finding]:
            readings = tuple(
                ChordReading(
                    note=n,
                    written="C",
                    heard="Am" if i in wrong_ones else "C",
                    status=Status.WRONG_PITCH if i in wrong_ones else Status.CORRECT,
                    confidence=0.9,
                    onset_s=at(n.onset_quarters),
                )
                for i, n in enumerate(tune.notes)
            )
            return found(tune, instrument="guitar", chords=readings, targets={"step": "chords"})

        self.assertEqual(strummed(range(0)), [])
        findings = strummed(range(8, 12))
        self.assertEqual(codes(findings), ["chords.wrong"])
        self.assertIn("Am", findings[0].text)


class OrderTests(SimpleTestCase):
    def test_the_gravest_stands_first_and_each_can_be_heard(self):
        tune = expectation(TUNE)
        edits: dict[int, Mapping[str, Any]] = {4: {"cents": 35.0}, 17: MISSED, 20: wrong(tune, 20, 2)}
        findings = found(tune, edits)
        self.assertEqual(codes(findings), ["notes.missed", "notes.wrong", "intonation.note"])
        for finding in findings:
            self.assertLess(finding.start_s, finding.end_s)
            self.assertEqual(finding.note_ids, (tune.notes[{"notes.wrong": 20, "notes.missed": 17}.get(finding.code, 4)].id,))

    def test_every_check_has_a_case_here(self):
        here = Path(__file__).read_text()
        for entry in all_checks():
            self.assertTrue(f'"{entry.code}"' in here, f"{entry.code} has no case on either side of its limit")
