"""An attempt at a stone: when it is over, and what it was."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.practising.attempt import Asked, attend, heard_whole
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.ending import Due, Look, Now, goes_on, loudness, now, sounding, surely_sounds
from didactor.core.practising.verdict import Verdict, doubtful_notes
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ
from tests.music import TUNE, expectation, musicxml

TEMPO = 92.0
BARS = "5-6"


@cache
def take(faults: tuple[tuple[tuple[str, object], ...], ...] = (), bars: str = BARS, seed: int = 5) -> tuple[np.ndarray, float]:
    """Sound with its count-off, and when the first bar was due in it."""
    music = expectation(TUNE, bars)
    made = simulate(music, BY_SLUG["clarinet"], TEMPO, faults=[dict(f) for f in faults], room="bedroom", seed=seed, count_off=4)
    clicks = made.truth["clicks_s"]
    samples = soxr.resample(made.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
    return samples, clicks[-1] + 60 / TEMPO - music.pickup_quarters * 60 / TEMPO


def asked(start_s: float, counts: str = "notes", bars: str = BARS, **more: object) -> Asked:
    targets = Targets(tempo_qpm=TEMPO, instrument="clarinet")
    return Asked(music=expectation(TUNE, bars), targets=targets, qpm=TEMPO, start_s=start_s, counts=counts, **more)


def judged(*faults: dict, counts: str = "notes", **more: object) -> Verdict:
    samples, start_s = take(tuple(tuple(sorted(f.items())) for f in faults))
    return heard_whole(samples, asked(start_s, counts, **more))


class VerdictTests(SimpleTestCase):
    def test_a_faultless_one_whatever_counts(self):
        for counts in ("notes", "rhythm", "all"):
            self.assertIs(judged(counts=counts).outcome, Outcome.CLEAN, counts)

    def test_a_wrong_and_a_missed_note_are_told_with_their_place_and_can_be_heard(self):
        found = judged({"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2})
        self.assertIs(found.outcome, Outcome.FAULT)
        self.assertEqual((found.bar, found.code), ("6", "notes.wrong_pitch"))
        self.assertIn("in place of E", found.says)
        self.assertEqual(len(found.at_fault), len(found.heard))
        samples, start_s = take()
        self.assertTrue(start_s < found.start_s < found.end_s < len(samples) / RATE_HZ)
        missed = judged({"kind": "missed", "bar": "6", "beat": 0.0})
        self.assertIn("did not sound", missed.says)
        self.assertEqual(missed.heard, (None,))

    def test_what_the_score_knows_of_the_cause_is_told_with_it_and_nothing_in_doubt(self):
        part = read(prepare(musicxml(TUNE))).parts[0]
        again = ({"kind": "wrong", "bar": "6", "beat": 2.0, "semitones": 2}, {"kind": "wrong", "bar": "6", "beat": 3.0, "semitones": 7})
        self.assertIn("the figure of the bar before", judged(*again, part=part).cause)
        self.assertEqual(judged(*again).cause, "")
        self.assertEqual(judged({"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2}, part=part).cause, "")
        elsewhere = {"kind": "wrong", "bar": "5", "beat": 1.0, "semitones": -2}
        self.assertEqual(judged(elsewhere, *again, part=part).cause, "", "the cause of another place than the one that is told")

    def test_the_first_fault_in_the_order_of_playing_is_told(self):
        found = judged(
            {"kind": "wrong", "bar": "6", "beat": 2.0, "semitones": 2}, {"kind": "wrong", "bar": "5", "beat": 1.0, "semitones": -2}
        )
        self.assertEqual(found.bar, "5")

    def test_a_pause_counts_only_where_rhythm_counts(self):
        pause = {"kind": "hesitation", "bar": "6", "beat": 0.0, "beats": 1.5}
        self.assertIs(judged(pause).outcome, Outcome.CLEAN)
        found = judged(pause, counts="rhythm")
        self.assertEqual((found.outcome, found.code, found.bar), (Outcome.FAULT, "flow.hesitation", "6"))
        little = judged({"kind": "hesitation", "bar": "6", "beat": 0.0, "beats": 0.55}, counts="rhythm")
        self.assertNotEqual(little.code, "flow.hesitation")

    def test_beginning_again_is_a_fault(self):
        found = judged({"kind": "restart", "bar": "6", "beat": 1.0, "back": 3})
        self.assertIs(found.outcome, Outcome.FAULT)

    def test_what_could_not_be_told_twice_of_three_times_leaves_the_count(self):
        doubt = [
            Verdict(outcome=Outcome.UNSURE, doubtful=("a", "b")),
            Verdict(outcome=Outcome.CLEAN),
            Verdict(outcome=Outcome.UNSURE, doubtful=("a",)),
        ]
        self.assertEqual(doubtful_notes(doubt), {"a"})
        self.assertEqual(doubtful_notes(doubt[:2]), frozenset())
        self.assertEqual(doubtful_notes([doubt[0], *[Verdict(outcome=Outcome.CLEAN)] * 3, doubt[2]]), frozenset())

    def test_a_note_that_left_the_count_is_no_fault(self):
        wrong = {"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2}
        note = next(n.id for n in expectation(TUNE, BARS).notes if (n.bar, n.beat) == ("6", 0.0))
        self.assertIsNot(judged(wrong, leave_out=frozenset({note})).code, "notes.wrong_pitch")
        self.assertEqual(judged(wrong, leave_out=frozenset({note})).at_fault, ())
        self.assertIn("cannot be told here", judged(leave_out=frozenset({note})).says)

    def test_silence_talk_and_other_bars_take_nothing_back(self):
        silent = np.zeros(8 * RATE_HZ, dtype=np.float32)
        self.assertEqual((heard_whole(silent, asked(2.0)).outcome, heard_whole(silent, asked(2.0)).code), (Outcome.UNSURE, "nothing"))
        other, start_s = take(bars="1-3")
        self.assertIsNot(heard_whole(other, asked(start_s, bars="7-8")).outcome, Outcome.CLEAN)
        noise = np.random.default_rng(1).normal(0, 0.05, 8 * RATE_HZ).astype(np.float32)
        self.assertIs(heard_whole(noise, asked(2.0)).outcome, Outcome.UNSURE)


class EndTests(SimpleTestCase):
    def pieces(self, samples: np.ndarray, about: Asked, piece_s: float = 0.25):
        """As the sound comes: when it was over, and the verdict."""
        look = None
        for end in range(int(piece_s * RATE_HZ), len(samples) + 1, int(piece_s * RATE_HZ)):
            heard = attend(samples[:end], about, look)
            look = heard.look
            if heard.verdict is not None:
                return end / RATE_HZ, heard.verdict
        return None, None

    def test_it_is_over_soon_after_the_last_note(self):
        samples, start_s = take()
        about = asked(start_s)
        at_s, found = self.pieces(np.concatenate([samples, np.zeros(3 * RATE_HZ, np.float32)]), about)
        self.assertIs(found.outcome, Outcome.CLEAN)
        self.assertTrue(about.due.end_s <= at_s <= about.due.end_s + 0.8)

    def test_broken_off_is_a_fault_and_not_over_at_once(self):
        samples, start_s = take()
        about = asked(start_s)
        cut = samples[: int((start_s + 2.2) * RATE_HZ)]
        at_s, found = self.pieces(np.concatenate([cut, np.zeros(8 * RATE_HZ, np.float32)]), about)
        self.assertEqual((found.outcome, found.code), (Outcome.FAULT, "flow.broken_off"))
        self.assertGreater(at_s, start_s + 2.2 + 1.4)

    def test_nobody_plays(self):
        about = asked(3.0)
        at_s, found = self.pieces(np.random.default_rng(2).normal(0, 1e-4, 12 * RATE_HZ).astype(np.float32), about)
        self.assertEqual(found.code, "nothing")
        self.assertGreaterEqual(at_s, 3.0 + 4.0)

    def test_a_knock_is_not_playing_and_the_count_off_is_not(self):
        due = Due(start_s=0.0, end_s=4.0, beat_s=1.0, longest_rest_s=0.0)
        sound = np.random.default_rng(3).normal(0, 1e-4, 4 * RATE_HZ).astype(np.float32)
        sound[RATE_HZ : RATE_HZ + 800] = 0.5
        self.assertEqual(sounding(sound, due), (None, None))
        self.assertIsNotNone(sounding(sound, replace(due, strokes=True))[0], "a clap is as short as a knock")
        sound[RATE_HZ : RATE_HZ + 8000] = 0.5
        self.assertIsNotNone(sounding(sound, due)[0])
        self.assertEqual(sounding(sound, replace(due, start_s=2.5)), (None, None))

    def test_the_ear_is_not_asked_before_it_makes_sense_nor_all_the_time(self):
        samples, start_s = take()
        due = asked(start_s).due
        at = lambda seconds: samples[: int(seconds * RATE_HZ)]  # noqa: E731
        self.assertIs(now(at(start_s + 1.0), due), Now.GOING)
        self.assertIs(now(at(due.end_s + 0.05), due), Now.GOING)
        self.assertIs(now(at(due.end_s + 0.15), due), Now.LOOK)
        looked = Look(at_s=due.end_s + 0.15, complete=False)
        self.assertIs(now(at(due.end_s + 0.3), due, looked), Now.GOING)
        self.assertIs(now(at(due.end_s + 0.6), due, looked), Now.LOOK)

    def test_what_surely_sounds_is_nothing_to_listen_into(self):
        """Wherever the quick answer says that playing goes on, the ear would say so too."""
        sure = 0
        for faults in ((), ((("bar", "6"), ("beat", 0.0), ("beats", 2.5), ("kind", "hesitation")),)):
            samples, start_s = take(faults)
            due, loudest = asked(start_s).due, -np.inf
            for heard_s in np.arange(0.5, due.end_s + 2.0, 0.5):
                heard = samples[: int(heard_s * RATE_HZ)]
                piece = np.round(32767 * heard[-RATE_HZ // 2 :]).astype(np.int16)
                level = loudness(piece, RATE_HZ)
                sounds, loudest = surely_sounds(level, loudest), max(loudest, level)
                if sounds and heard_s < due.end_s:
                    sure += 1
                    self.assertIs(now(heard, due), Now.GOING, heard_s)
        self.assertGreater(sure, 15)
        hum = np.full(RATE_HZ, 300, dtype=np.int16)
        level = loudness(hum, RATE_HZ)
        self.assertAlmostEqual(level, 20 * np.log10(300 / 32768), places=3)
        self.assertFalse(surely_sounds(level, -20.0), "quiet beside what was heard before")
        self.assertTrue(surely_sounds(level, -np.inf))
        self.assertFalse(surely_sounds(loudness(hum // 100, RATE_HZ), -np.inf), "quieter than anything is played")
        before = np.concatenate([np.full(RATE_HZ, 9000, dtype=np.int16), hum])
        self.assertEqual(loudness(before, RATE_HZ), level, "a second ago is too long ago")
        self.assertIsNone(loudness(hum[:100], RATE_HZ))

    def test_a_sound_that_goes_on_is_waited_for_only_so_long(self):
        due = Due(start_s=0.0, end_s=2.0, beat_s=1.0, longest_rest_s=0.0)
        tone = 0.2 * np.sin(np.arange(7 * RATE_HZ) / 10).astype(np.float32)
        tone[:8000] = 0.0
        self.assertTrue(goes_on(tone[: 3 * RATE_HZ], due))
        self.assertFalse(goes_on(tone[: int(6.5 * RATE_HZ)], due))

    def test_a_long_note_that_is_clapped_is_as_quiet_as_a_rest(self):
        music = expectation("C4:w | D4:q E4:q F4:h", fifths=0)
        self.assertAlmostEqual(Due.of(music, 1.0, 60.0).longest_rest_s, 0.0)
        self.assertAlmostEqual(Due.of(music, 1.0, 60.0, strokes=True).longest_rest_s, 4.0)

    def test_a_long_rest_is_no_end(self):
        music = expectation("C4:q D4:q E4:q F4:q | r:w | G4:q A4:q B4:q C5:q", fifths=0)
        due = Due.of(music, 1.0, 60.0)
        self.assertAlmostEqual(due.longest_rest_s, 4.0)
        sound = np.random.default_rng(4).normal(0, 1e-4, 9 * RATE_HZ).astype(np.float32)
        sound[RATE_HZ : 5 * RATE_HZ] += 0.2 * np.sin(np.arange(4 * RATE_HZ) / 10).astype(np.float32)
        self.assertIs(now(sound, due, Look(at_s=6.0, complete=False)), Now.GOING)
