"""Tone: measured on sounds of known make, compared in words, silent in doubt."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.plain import from_plain, to_plain
from didactor.core.hearing.hearing import Hearing, NoteHeard, Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.judge import judge
from didactor.core.judging.targets import Targets
from didactor.core.sound.gate import Quality
from didactor.core.sound.recording import RATE_HZ
from didactor.core.tone.compare import compare, facts
from didactor.core.tone.measure import Balance, Breath, LongNote, Tone, tone_of
from tests.music import expectation

QUARTER_S = 0.75
LINE = "A4:h C5:h | D5:w | E5:q D5:q C5:h | A4:w"


def hz(midi: int) -> float:
    return 440.0 * 2 ** ((midi - 69) / 12)


def sound(music, *, slope_db=0.0, cents=0.0, noise_db=None, first_db=0.0, gap_s=0.02, voices_db=None) -> np.ndarray:
    """Six partials a note, with a level, a pitch and a noise that do as they are told; a second of nearly silence before and after."""
    rng = np.random.default_rng(3)
    out = rng.normal(size=int((2 + music.length_quarters * QUARTER_S) * RATE_HZ)) * 1e-5
    for k, note in enumerate(music.notes):
        at, seconds = 1.0 + note.onset_quarters * QUARTER_S, note.duration_quarters * QUARTER_S - gap_s
        time = np.arange(int(seconds * RATE_HZ)) / RATE_HZ
        phase = 2 * np.pi * hz(note.sounding_midi) * np.cumsum(2 ** (cents * time / 1200)) / RATE_HZ
        tone = sum(np.sin(p * phase) / p**1.5 for p in range(1, 7)) * 0.1
        tone *= 10 ** ((slope_db * (time - seconds / 2) + (first_db if k == 0 else 0.0) + (voices_db or {}).get(note.id, 0.0)) / 20)
        if noise_db is not None:
            tone += rng.normal(size=len(time)) * np.std(tone) * 10 ** (noise_db / 20)
        tone *= np.minimum(1, np.minimum(time, time[-1] - time) / 0.02)
        out[int(at * RATE_HZ) : int(at * RATE_HZ) + len(tone)] += tone
    return out.astype(np.float32)


def measured(instrument: str = "flute", text: str = LINE, gap_s: float = 0.02, first_db: float = 0.0, **options) -> Tone | None:
    """The tone of such a sound; every note was right and heard where it is."""
    music = expectation(text, fifths=0)
    loud = {note.id: first_db if k == 0 else 0.0 for k, note in enumerate(music.notes)}
    heard = [
        NoteHeard(
            status=Status.CORRECT,
            confidence=0.95,
            onset_s=1.0 + n.onset_quarters * QUARTER_S,
            offset_s=1.0 + (n.onset_quarters + n.duration_quarters) * QUARTER_S - gap_s,
            heard_midi=n.sounding_midi,
            timed=True,
        )
        for n in music.notes
    ]
    hearing = Hearing(notes=tuple(heard), extra=(), jumps=(), seconds_per_quarter=QUARTER_S, share_of_notes=1.0, share_of_sounds=1.0)
    targets = Targets(tempo_qpm=60 / QUARTER_S, instrument=instrument)
    evidence = judge(hearing, music, targets, BY_SLUG[instrument])
    quality = Quality(verdict="ok", problems=(), numbers={})
    result = result_of(Analysis(expectation=music, targets=targets, duration_s=20.0, quality=quality, evidence=evidence, findings=()))
    result = replace(result, notes=tuple(replace(n, loudness_db=loud[n.id] - 20.0) for n in result.notes))
    return tone_of(sound(music, gap_s=gap_s, first_db=first_db, **options), result, music)


class MeasuredTests(SimpleTestCase):
    def test_long_notes_of_known_slope_pitch_and_noise(self):
        plain = measured()
        self.assertEqual(len(plain.long), 5)
        for note in plain.long:
            self.assertAlmostEqual(note.slope_db, 0.0, delta=0.3)
            self.assertAlmostEqual(note.slope_cents, 0.0, delta=1.0)
            self.assertLess(note.noise_db, -40)
        for made, value, wanted, delta in (
            (measured(slope_db=6.0), lambda n: n.slope_db, 6.0, 0.5),
            (measured(cents=-20.0), lambda n: n.slope_cents, -20.0, 4.0),
            (measured(noise_db=-15.0), lambda n: n.noise_db, -21.0, 4.0),
        ):
            self.assertAlmostEqual(float(np.median([value(n) for n in made.long])), wanted, delta=delta)

    def test_a_note_whose_pitch_sinks_has_no_more_noise(self):
        self.assertLess(max(n.noise_db for n in measured(cents=-25.0).long), -25)

    def test_the_first_note_the_first_beats_and_breaths(self):
        self.assertAlmostEqual(measured(first_db=-9.0).first_db, -9.0, delta=0.1)
        self.assertIsNone(measured().downbeat_db, "too few beats of either")
        self.assertEqual(measured().breaths, ())
        self.assertEqual(len(measured(gap_s=0.25).breaths), 6)
        self.assertEqual(measured("violin", gap_s=0.25).breaths, (), "nobody breathes there")

    def test_a_breath_within_a_slur_is_told_apart(self):
        bound = measured(text="A4:h( C5:h) | D5:w", gap_s=0.25)
        self.assertEqual([b.in_slur for b in bound.breaths], [True, False])

    def test_what_fades_by_itself_and_what_has_no_pitch_is_not_measured(self):
        self.assertEqual(measured("piano").long, ())
        self.assertIsNone(measured("percussion"))

    def test_kept_and_read_again(self):
        made = measured()
        self.assertEqual(len(from_plain(Tone, to_plain(made)).long), 5)

    def test_the_balance_of_chords(self):
        text = " | ".join(["C4+E4:h D4+F4:h", "E4+A4:h F4+A4:h"] * 2)
        music = expectation(text, fifths=0)
        tops = [max((n for n in music.notes if n.onset_quarters == at), key=lambda n: n.sounding_midi).id for at in range(0, 16, 2)]
        plain = measured("piano", text)
        softer = measured("piano", text, voices_db=dict.fromkeys(tops, -6.0))
        self.assertEqual(len(plain.chords), 8)
        apart = [b.upper_db - a.upper_db for a, b in zip(plain.chords, softer.chords, strict=True)]
        self.assertAlmostEqual(float(np.median(apart)), -6.0, delta=0.5)
        self.assertEqual(measured("piano", "C4+C5:w | C4+G4:w").chords, (), "the upper one lies on the other's partials")


def note(k: int, **fields: float) -> LongNote:
    values = {"level_db": -20.0, "slope_db": 0.0, "wobble_db": 0.3, "slope_cents": 0.0, "noise_db": -30.0}
    values |= {"start_s": float(k), "end_s": k + 1.5}
    return LongNote(id=f"n{k}", bar=str(k), pass_=1, **{**values, **fields})


def tone(*notes: LongNote, **fields: object) -> Tone:
    return Tone(**{"background_db": -70.0, "long": notes, **fields})


class ComparedTests(SimpleTestCase):
    def codes(self, own: Tone, other: Tone) -> list[str]:
        return [remark.code for remark in compare(own, other, "take 1")]

    def test_each_difference_in_words_with_its_bars(self):
        before = tone(*(note(k) for k in range(4)))
        for fields, code, words in (
            ({"slope_db": 5.0}, "tone.swells", "swell by 5 dB"),
            ({"slope_db": -5.0}, "tone.swells", "fade by 5 dB"),
            ({"wobble_db": 2.0}, "tone.wavers", "wavers more than in take 1"),
            ({"slope_cents": -15.0}, "tone.moves", "sink by 15 cents"),
            ({"slope_cents": 15.0}, "tone.moves", "rise by 15 cents"),
            ({"noise_db": -20.0}, "tone.noise", "10 dB more noise"),
        ):
            [remark] = compare(tone(*(note(k, **fields) for k in range(4))), before, "take 1")
            self.assertEqual(remark.code, code)
            self.assertIn(words, remark.says)
            self.assertEqual(len(remark.bars), 4)

    def test_small_rare_mixed_or_better_is_nothing(self):
        before = tone(*(note(k) for k in range(4)))
        for own in (
            tone(*(note(k, slope_db=2.5) for k in range(4))),
            tone(note(0, slope_db=9.0)),
            tone(note(0, slope_db=9.0), note(1, slope_db=9.0), note(2, slope_db=-9.0), note(3, slope_db=-9.0)),
            tone(*(note(k, noise_db=-45.0, wobble_db=0.1) for k in range(4))),
            tone(*(note(k + 10, slope_db=9.0) for k in range(4))),
        ):
            self.assertEqual(self.codes(own, before), [])

    def test_the_room_s_noise_is_not_the_player_s(self):
        noisy = [note(k, noise_db=-18.0) for k in range(4)]
        self.assertEqual(self.codes(tone(*noisy, background_db=-40.0), tone(*(note(k) for k in range(4)))), [])

    def test_a_weak_first_note_only_where_it_was_stronger_before(self):
        weak = tone(first_db=-8.0, first_s=1.0)
        [remark] = compare(weak, tone(first_db=-1.0, first_s=1.0), "take 1")
        self.assertIn("8 dB weaker than the next ones; in take 1 it was as strong as they", remark.says)
        self.assertEqual(self.codes(weak, tone(first_db=-6.5, first_s=1.0)), [])
        self.assertEqual(self.codes(weak, tone()), [])
        self.assertEqual(self.codes(tone(first_db=-5.0, first_s=1.0), tone(first_db=2.0, first_s=1.0)), [])

    def chords(self, *values: float) -> tuple[Balance, ...]:
        return tuple(Balance(id=f"c{k}", bar=str(k), pass_=1, at_s=float(k), upper_db=v) for k, v in enumerate(values))

    def test_voicing_from_eight_chords_and_only_beyond_their_scatter(self):
        before = tone(chords=self.chords(*[0.0] * 8))
        [remark] = compare(tone(chords=self.chords(*[-4.0] * 8)), before, "take 1")
        self.assertIn("4 dB less against the lower ones", remark.says)
        self.assertEqual(self.codes(tone(chords=self.chords(*[-2.0] * 8)), before), [])
        self.assertEqual(self.codes(tone(chords=self.chords(*[-4.0] * 7)), before), [])
        self.assertEqual(self.codes(tone(chords=self.chords(-14, 6, -13, 5, -12, 4, -11, 3)), before), [])

    def test_facts_are_told_without_another_take(self):
        plain = Breath(bar="2", beat=0.0, seconds=0.3, at_s=4.0, in_slur=False)
        breaths = (plain, Breath(bar="3", beat=1.0, seconds=0.2, at_s=6.0, in_slur=True))
        says = [one.says for one in facts(tone(breaths=breaths, downbeat_db=2.4))]
        self.assertEqual(says[0], "Breaths, or gaps like them, before notes in bars 2, 3. One of them is within a slur.")
        self.assertEqual(says[1], "First beats are 2 dB stronger than the others.")
        self.assertEqual(facts(tone(downbeat_db=0.5)), [])
