"""Loudness where the score asks for it, uneven threes, and a metronome that is not taken for playing."""

from __future__ import annotations

from functools import cache

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis, analyse
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.sound.backing import Backing, without_backing
from didactor.core.sound.clicks import without_clicks
from didactor.core.sound.player.take import SimulatedTake, simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import TUNE, expectation

LOUD_AND_SOFT = (
    "C4:q!p D4:q E4:q F4:q | G4:q!< F4:q E4:q D4:q | E4:e F4:e G4:e A4:e B4:q C5:q | D5:h!f C5:h!. | C5:q!> B4:q A4:q G4:q | "
    "F4:q E4:q D4:q E4:q | F4:h!p E4:h!. | C4:q> D4:q E4:q> F4:q | G4:q> A4:q G4:q> E4:q | D4:q> C4:q D4:q> E4:q | C4:w"
)
SIXES = "C5:e D5:e E5:e F5:e E5:e D5:e | E5:e F5:e G5:e F5:q. | D5:e E5:e F5:e E5:e D5:e C5:e | D5:q. C5:q."
CLICK = {"kind": "click", "level_db": -14, "bpm": 92.0, "start_s": 0.2}


@cache
def take(text: str, instrument: str, fault: str = "", click: bool = False, manner: str = "play", beats: int = 4) -> SimulatedTake:
    line = {"beats": beats, "beat_type": 8 if beats == 6 else 4}
    faults = {"flat": [{"kind": "flat"}], "limp": [{"kind": "uneven", "percent": 63}]}.get(fault, [])
    degradations = [CLICK] if click else []
    return simulate(
        expectation(text, fifths=0, **line),
        BY_SLUG[instrument],
        92.0,
        faults=faults,
        room="bedroom",
        seed=4,
        manner=manner,
        degradations=degradations,
    )


def heard(text: str, instrument: str, step: str = "play", beats: int = 4, **how: object) -> Analysis:
    line = {"beats": beats, "beat_type": 8 if beats == 6 else 4}
    targets = Targets(tempo_qpm=92.0, instrument=instrument, step=step)
    sound = recorded(take(text, instrument, beats=beats, **how))
    return analyse(Recording(samples=sound), expectation(text, fifths=0, **line), targets)


def accompanied() -> tuple[np.ndarray, np.ndarray]:
    """A clarinet over a piano that a loudspeaker plays in the same room, nearly as loud; and what was sent to the loudspeaker."""
    chords = "C3+E3+G3:h G2+B2+D3:h | " * 12
    track = simulate(expectation(chords, fifths=0), BY_SLUG["piano"], 92.0, seed=9).samples
    bleed = {"kind": "backing", "samples": track, "level_db": -6, "through": "bedroom", "delay_s": 0.12}
    made = simulate(expectation(TUNE, fifths=0), BY_SLUG["clarinet"], 92.0, room="bedroom", seed=4, degradations=[bleed])
    return recorded(made), soxr.resample(track, 44_100, RATE_HZ).astype(np.float32)


def recorded(made: SimulatedTake) -> np.ndarray:
    return soxr.resample(made.samples, 44_100, RATE_HZ).astype(np.float32)


class DynamicsTests(SimpleTestCase):
    def test_what_is_played_as_marked_has_no_remark(self):
        for instrument in ("violin", "trumpet", "piano"):
            self.assertEqual(heard(LOUD_AND_SOFT, instrument).findings, (), instrument)

    def test_what_is_played_all_alike_is_told(self):
        told: list[str] = []
        for instrument in ("trumpet", "clarinet", "violin"):
            codes = [f.code for f in heard(LOUD_AND_SOFT, instrument, fault="flat").findings]
            self.assertIn("dynamics.flat", codes, instrument)
            told += codes
        self.assertLessEqual(set(told), {"dynamics.flat", "dynamics.accents", "dynamics.hairpin"})
        self.assertIn("dynamics.accents", told)


class EvennessTests(SimpleTestCase):
    def test_limping_threes_are_one_remark(self):
        [finding] = heard(SIXES, "clarinet", beats=6, fault="limp").findings
        self.assertEqual(finding.code, "rhythm.uneven")
        self.assertAlmostEqual(finding.size, 63, delta=2.5)
        self.assertEqual(heard(SIXES, "clarinet", beats=6).findings, ())


class ClickTests(SimpleTestCase):
    def test_a_metronome_is_not_counted_among_the_claps(self):
        analysis = heard(TUNE, "claps", step="clap", click=True, manner="clap")
        self.assertGreater(analysis.quality.numbers["clicks"], 20)
        self.assertEqual((analysis.evidence.extra, analysis.findings), ((), ()))

    def test_known_clicks_are_taken_out_and_the_playing_stays(self):
        clean, over = recorded(take(TUNE, "claps", manner="clap")), take(TUNE, "claps", click=True, manner="clap")
        known = tuple(t - 0.06 for t in over.truth["clicks_s"])
        found = without_clicks(recorded(over), known, None)
        self.assertGreater(len(found.times_s), 0.9 * len(known))
        before, after = (float(np.square(s - clean).mean()) for s in (recorded(over), found.samples))
        self.assertLess(after, 0.2 * before)

    def test_music_on_the_beat_is_no_metronome(self):
        even = "C5:q C5:q G4:q C5:q | " * 6 + "C5:w"
        for instrument in ("piano", "clarinet", "guitar"):
            found = without_clicks(recorded(take(even, instrument)), (), 60 / 92)
            self.assertEqual(found.times_s, (), instrument)

    def test_the_entry_is_measured_from_the_clicks_as_they_were_heard(self):
        self.assertAlmostEqual(self._entry_after(count_off=4), 1.0, delta=0.15)

    def test_a_known_backing_track_is_taken_out_and_tells_how_late_all_was(self):
        sound, track = accompanied()
        left, late_s = without_backing(sound, Backing(samples=track))
        self.assertAlmostEqual(late_s, 0.12, delta=0.01)
        playing = recorded(take(TUNE, "clarinet"))[: len(left)]
        before, after = (float(np.square(s[: len(playing)] - playing).mean()) for s in (sound, left))
        self.assertLess(after, before / 50)
        targets = Targets(tempo_qpm=92.0, instrument="clarinet")
        analysis = analyse(Recording(samples=sound), expectation(TUNE, fifths=0), targets, backing=Backing(samples=track))
        self.assertEqual(analysis.findings, ())

    def test_a_track_that_was_heard_through_headphones_changes_nothing(self):
        sound, (_, track) = recorded(take(TUNE, "clarinet")), accompanied()
        left, late_s = without_backing(sound, Backing(samples=track))
        self.assertIs(left, sound)
        self.assertIsNone(late_s)

    def test_a_count_off_of_two_is_enough_to_find_its_delay(self):
        self.assertAlmostEqual(self._entry_after(count_off=2), 1.0, delta=0.15)

    def test_clicks_that_the_take_does_not_hold_leave_the_entry_unjudged(self):
        for clicks in (2, 4, 12):
            headphones = tuple(0.1 + 60 / 92 * k for k in range(clicks))
            targets = Targets(tempo_qpm=92.0, instrument="clarinet", count_off=min(clicks, 4), clicks_s=headphones)
            analysis = analyse(Recording(samples=recorded(take(TUNE, "clarinet"))), expectation(TUNE, fifths=0), targets)
            self.assertIsNone(analysis.evidence.entry, clicks)

    def _entry_after(self, count_off: int) -> float:
        """The entry heard, in quarters, of a take that begins one quarter late."""
        expected = expectation(TUNE, fifths=0)
        late = [{"kind": "entry", "beats": 1.0}]
        made = simulate(expected, BY_SLUG["clarinet"], 92.0, faults=late, room="bedroom", seed=4, count_off=count_off)
        told = tuple(t - 0.05 for t in made.truth["clicks_s"])  # devices and air delay them
        targets = Targets(tempo_qpm=92.0, instrument="clarinet", count_off=count_off, clicks_s=told)
        analysis = analyse(Recording(samples=recorded(made)), expected, targets)
        self.assertIn("rhythm.entry", {f.code for f in analysis.findings})
        return analysis.evidence.entry.early_late_quarters
