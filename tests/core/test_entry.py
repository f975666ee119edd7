"""The first note against what leads to it: an accompaniment's own timeline, or a count-off that nobody told of."""

from __future__ import annotations

from typing import Any

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.analyse import analyse
from didactor.core.hearing.count_off import find_count_off
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.sound.backing import Backing
from didactor.core.sound.player.rooms import ROOMS, SYNTH_RATE_HZ, add_room
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import TUNE, expectation, played

BEAT_S = 60.0 / 92.0


def counted(beats_late: float = 0.0, *, counts: int = 4, told: int = 4, seed: int = 3, instrument: str = "clarinet") -> Any:
    """A sent take with a count-off in it, of which only the number of beats is known."""
    faults = [{"kind": "entry", "beats": beats_late}] if beats_late else []
    take = simulate(expectation(TUNE), BY_SLUG[instrument], 92.0, faults=faults, room="bedroom", seed=seed, count_off=counts)
    samples = soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
    return analyse(Recording(samples=samples), expectation(TUNE), Targets(tempo_qpm=92.0, instrument=instrument, count_off=told))


class CountOffTests(SimpleTestCase):
    def test_an_entry_on_time_is_no_remark_and_its_place_is_known(self):
        for instrument in ("clarinet", "violin", "piano"):
            analysis = counted(instrument=instrument)
            self.assertEqual([f.code for f in analysis.findings], [], instrument)
            self.assertAlmostEqual(analysis.evidence.entry.early_late_quarters, 0.0, delta=0.12)

    def test_an_entry_off_its_beat_is_told(self):
        for beats, word in ((1.0, "late"), (0.5, "late"), (-0.5, "early")):
            [finding] = [f for f in counted(beats).findings if f.code == "rhythm.entry"]
            self.assertIn(word, finding.text)
            self.assertAlmostEqual(finding.size, beats, delta=0.15)

    def test_other_than_the_asked_number_of_beats_says_nothing(self):
        self.assertIsNone(counted(counts=8).evidence.entry)
        self.assertIsNone(counted(counts=3).evidence.entry)
        self.assertIsNone(counted(counts=0).evidence.entry)
        self.assertIsNone(counted(told=0).evidence.entry)

    def test_uneven_taps_and_taps_at_another_pace_are_no_count_off(self):
        def taps(times: list[float]) -> np.ndarray:
            sound = np.random.default_rng(1).normal(0, 1e-3, int(6 * RATE_HZ))
            click = np.random.default_rng(2).normal(0, 0.4, 900) * np.exp(-np.arange(900) / 150)
            for time in times:
                sound[int(time * RATE_HZ) : int(time * RATE_HZ) + 900] += click
            return sound.astype(np.float32)

        even = [0.5 + 0.6 * k for k in range(4)]
        found = find_count_off(taps(even), 2.9, 0.6, 4)
        np.testing.assert_allclose(found, even, atol=0.03)
        self.assertEqual(find_count_off(taps([0.5, 1.1, 1.9, 2.3]), 2.9, 0.6, 4), ())
        self.assertEqual(find_count_off(taps(even), 2.9, 0.4, 4), ())
        self.assertEqual(find_count_off(taps(even), 5.5, 0.6, 4), (), "too long before the first note")
        self.assertEqual(find_count_off(taps(even), 2.9, 0.6, 1), ())


class AccompanimentTests(SimpleTestCase):
    def along(
        self, late_beats: float, *faults: dict, audible: bool = True, enters: bool = True, known_s: float | None = None, tempo: float = 92.0
    ) -> Any:
        """Played along with a track of three bars of introduction; the microphone hears both."""
        track = soxr.resample(
            simulate(expectation("C3:h G3:h | " * 11 + "C3:w", fifths=0), BY_SLUG["piano"], 92.0, seed=9).samples, SYNTH_RATE_HZ, RATE_HZ
        ).astype(np.float32)
        own = np.asarray(played(*faults, tempo=tempo).samples)
        first_s = 1.0 + 9 * BEAT_S
        enters_s = first_s + self.begins_s
        sound = np.zeros(len(track) + RATE_HZ, dtype=np.float32)
        at = int((0.4 + first_s + late_beats * BEAT_S) * RATE_HZ)
        count = min(len(own), len(sound) - at)
        sound[at : at + count] += own[:count]
        if audible:
            heard = add_room(track.astype(np.float64), ROOMS["bedroom"], np.random.default_rng(4))[: len(sound) - int(0.5 * RATE_HZ)]
            sound[int(0.5 * RATE_HZ) : int(0.5 * RATE_HZ) + len(heard)] += 0.25 * heard.astype(np.float32)
        backing = Backing(samples=track, at_s=0.4, enters_s=enters_s if enters else None)
        targets = Targets(tempo_qpm=92.0, instrument="clarinet", count_off=4, clicks_s=(0.5, 1.15, 1.8, 2.45), late_s=known_s)
        return analyse(Recording(samples=sound), expectation(TUNE), targets, backing=backing)

    @property
    def begins_s(self) -> float:
        """When the first note begins in the take that is laid over the track (less the loudspeaker's delay of 0.1 s)."""
        alone = analyse(played(), expectation(TUNE), Targets(tempo_qpm=92.0, instrument="clarinet"))
        return float(alone.evidence.notes[0].onset_s) - 0.1

    def test_the_entry_is_reckoned_from_the_accompaniment(self):
        right = self.along(0.0)
        self.assertNotIn("rhythm.entry", [f.code for f in right.findings])
        self.assertAlmostEqual(right.evidence.entry.early_late_quarters, 0.0, delta=0.15)
        [finding] = [f for f in self.along(1.0).findings if f.code == "rhythm.entry"]
        self.assertAlmostEqual(finding.size, 1.0, delta=0.15)

    def test_where_the_track_cannot_be_heard_or_its_timeline_is_unknown_nothing_is_said(self):
        self.assertIsNone(self.along(1.0, audible=False).evidence.entry)
        self.assertIsNone(self.along(1.0, enters=False).evidence.entry)

    def test_in_headphones_the_device_s_own_delay_tells_when_it_was_due(self):
        """Nothing of the track is in the recording; a sound check has measured by how much it comes late."""
        self.assertNotIn("rhythm.entry", [f.code for f in self.along(0.0, audible=False, known_s=0.1).findings])
        for beats in (1.0, -0.5):
            [finding] = [f for f in self.along(beats, audible=False, known_s=0.1).findings if f.code == "rhythm.entry"]
            self.assertAlmostEqual(finding.size, beats, delta=0.15)
        # What can be heard counts more than what was measured once.
        self.assertNotIn("rhythm.entry", [f.code for f in self.along(0.0, known_s=0.5).findings])

    def told(self, *faults: dict, tempo: float = 92.0, late_beats: float = 0.0) -> list[tuple[str, float]]:
        found = self.along(late_beats, *faults, tempo=tempo).findings
        return [(f.bar, f.size) for f in found if f.code == "rhythm.together"]

    def test_who_leaves_the_accompaniment_behind_or_drags_is_told_from_where_and_by_how_much(self):
        for tempo, sign in ((97.0, -1), (87.0, 1)):
            [(bar, size)] = self.told(tempo=tempo)
            self.assertIn(bar, ("1", "2"))
            quarters = 4 * 7.5 * abs(92 - tempo) / tempo
            self.assertAlmostEqual(sign * size, quarters, delta=0.4)

    def test_with_the_accompaniment_nothing_is_told_and_an_entry_or_a_pause_is_told_once(self):
        self.assertEqual(self.told(), [])
        self.assertEqual(self.told(late_beats=1.0), [])
        self.assertEqual(self.told({"kind": "hesitation", "bar": "4", "beat": 0.0, "beats": 1.5}), [])
        self.assertIsNone(self.along(0.0, enters=False).evidence.apart)
