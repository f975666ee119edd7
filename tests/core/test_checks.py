"""Every check on evidence made by hand: what is just beyond its limit is said, what is just within is not. No sound, no ear."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.test import SimpleTestCase

from didactor.core.hearing.hearing import ChordReading, ExtraNote, NoteHeard, Status, Tuning
from didactor.core.judging.checks.upper_voice import is_covered
from didactor.core.judging.evidence import Hand
from didactor.core.judging.registry import Finding, all_checks
from didactor.core.score.expected import ExpectedHairpin
from tests.core.by_hand import HANDS, MISSED, QUARTER_S, at, codes, found, late, walk, wrong
from tests.music import TUNE, expectation


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
        here = "".join(path.read_text() for path in Path(__file__).parent.glob("test_checks*.py"))
        for entry in all_checks():
            self.assertTrue(f'"{entry.code}"' in here, f"{entry.code} has no case on either side of its limit")
