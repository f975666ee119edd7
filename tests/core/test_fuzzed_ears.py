"""Whatever an ear believes to have heard, something can be said of it: no list of events, however odd, ends in an error."""

from __future__ import annotations

import json

import jsonschema
import numpy as np
from django.test import SimpleTestCase
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from didactor.core.analyse import Analysis
from didactor.core.formats.analysis_json import result_of, schema
from didactor.core.formats.glance import summary_of
from didactor.core.formats.result import read_result
from didactor.core.hearing import many_voices, one_voice
from didactor.core.hearing.alignment import align
from didactor.core.hearing.events import Event
from didactor.core.hearing.features import level_of, listen, short_time
from didactor.core.hearing.groups import Strike, moments_of
from didactor.core.hearing.hearing import Hearing
from didactor.core.hearing.note_model import Posteriors
from didactor.core.hearing.presence import Evidence
from didactor.core.hearing.spectrum import spectrum
from didactor.core.hearing.strokes import Stroke, hearing_of, stroke_material
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.judge import judge
from didactor.core.judging.registry import run_checks
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from didactor.core.sound.gate import Quality
from didactor.core.sound.recording import RATE_HZ
from tests.core.test_many_voices import two_hands
from tests.music import TUNE, expectation

SECONDS = 14.0
NOISE = np.random.default_rng(5).normal(0.0, 0.05, int(SECONDS * RATE_HZ)).astype(np.float32)
FUZZ = settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
TIMES = st.lists(st.floats(0.0, SECONDS - 0.5), min_size=1, max_size=60, unique=True).map(sorted)
STAGES = st.sampled_from(("first_reading", "at_tempo", "sight_reading", "final"))


def said(hearing: Hearing, expected: Expectation, instrument: str, stage: str, step: str = "play") -> None:
    """Everything downstream of an ear: judged, checked, stored, read back."""
    targets = Targets(tempo_qpm=92.0, stage=stage, instrument=instrument, step=step, count_off=4, clicks_s=(0.1, 0.7, 1.3, 1.9))
    evidence = judge(hearing, expected, targets, BY_SLUG[instrument])
    quality = Quality(verdict="ok", problems=(), numbers={})
    analysis = Analysis(
        expectation=expected,
        targets=targets,
        duration_s=SECONDS,
        quality=quality,
        evidence=evidence,
        findings=tuple(run_checks(evidence)),
    )
    written = json.loads(json.dumps(result_of(analysis).to_json(), allow_nan=False))
    jsonschema.validate(written, schema())
    summary_of(read_result(written))


class FuzzedEarTests(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        posteriors = Posteriors(NOISE)
        rng = np.random.default_rng(3)
        posteriors._onset[:] = rng.random(posteriors._onset.shape)
        posteriors._sounding[:] = rng.random(posteriors._sounding.shape)
        cls.evidence = Evidence(
            posteriors=posteriors, spectrum=spectrum(short_time(NOISE)), tuning_cents=8.0, typical_onset=0.5, typical_sounding=0.5
        )
        cls.features = listen(NOISE, BY_SLUG["clarinet"])
        cls.level_db = level_of(NOISE)

    @FUZZ
    @given(times=TIMES, seed=st.integers(0, 2**31), stage=STAGES)
    def test_many_voices(self, times, seed, stage):
        expected, rng = two_hands(), np.random.default_rng(seed)
        written = [n.sounding_midi for n in expected.notes]
        strikes = [
            Strike(
                time_s=t,
                midi=int(rng.choice(written)) if rng.random() < 0.8 else int(rng.integers(21, 109)),
                strength=float(rng.uniform(0.3, 1)),
                rise=float(rng.random()),
            )
            for t in times
        ]
        take = many_voices.laid_over(strikes, self.evidence, self.level_db, expected, 60 / 92)
        said(many_voices.hearing_of(take, NOISE), expected, "piano", stage)

    @FUZZ
    @given(gone=st.sets(st.integers(0, 40), max_size=30), seed=st.integers(0, 2**31), again=st.booleans())
    def test_many_voices_with_neighbouring_moments_missing(self, gone, seed, again):
        expected, rng = two_hands(), np.random.default_rng(seed)
        moments = moments_of(expected)
        played = [m for m in range(len(moments)) if m not in gone]
        if again:
            played = played[: len(played) // 2] + played[len(played) // 3 :]
        strikes, at = [], 0.5
        for before, here in zip([None, *played], played, strict=False):
            step = 0.5 if before is None or here <= before else (moments[here].quarters - moments[before].quarters) * 0.2
            at += max(0.08, step + rng.normal(0, 0.02))
            strikes += [Strike(time_s=at, midi=expected.notes[i].sounding_midi, strength=0.9, rise=1.0) for i in moments[here].notes]
        if strikes:
            take = many_voices.laid_over(strikes, self.evidence, self.level_db, expected, 0.2)
            said(many_voices.hearing_of(take, NOISE), expected, "piano", "at_tempo")

    @FUZZ
    @given(times=TIMES, seed=st.integers(0, 2**31), stage=STAGES)
    def test_one_voice(self, times, seed, stage):
        expected, rng = expectation(TUNE), np.random.default_rng(seed)
        events = []
        for begin, end in zip(times, [*times[1:], SECONDS - 0.1], strict=True):
            midi = int(rng.choice([n.sounding_midi for n in expected.notes])) if rng.random() < 0.8 else int(rng.integers(30, 100))
            events.append(
                Event(
                    onset_s=begin,
                    offset_s=begin + max(0.01, float(rng.uniform(0.2, 1.0)) * (end - begin)),
                    midi=midi,
                    pitch=midi + float(rng.normal(0, 0.2)),
                    spread=float(rng.random()),
                    level_db=float(rng.uniform(-50, -5)),
                    voicing=float(rng.random()),
                    strength=float(rng.random()),
                    soft=bool(rng.random() < 0.3),
                )
            )
        clarinet = BY_SLUG["clarinet"]
        line = one_voice.laid_over(events, self.features, (5.0, 0.7), expected, 60 / 92, clarinet)
        said(one_voice.hearing_of(line, clarinet), expected, "clarinet", stage)

    @FUZZ
    @given(times=TIMES, seed=st.integers(0, 2**31), stage=STAGES)
    def test_strokes(self, times, seed, stage):
        expected, rng = expectation(TUNE), np.random.default_rng(seed)
        strokes = [Stroke(time_s=t, strength=float(rng.uniform(0.2, 2.0))) for t in times]
        moments = moments_of(expected)
        alignment = align(stroke_material(strokes, moments), 60 / 92)
        said(hearing_of(strokes, moments, alignment, expected), expected, "claps", stage, step="clap")
