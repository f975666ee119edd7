"""The sandbox holds: memory, time, room, and nothing of this process leaks in."""

from __future__ import annotations

import tempfile
import time
from unittest import mock

from django.test import SimpleTestCase

from didactor.core.errors import AudioError, SandboxError, ScoreError
from didactor.core.sandbox.run import Limits, run_isolated
from didactor.core.score.open import prepare_isolated
from didactor.core.sound.recording import open_recording
from tests.music import musicxml, wav


class SandboxTests(SimpleTestCase):
    def source(self, data: bytes):
        file = tempfile.TemporaryFile()  # noqa: SIM115 - closed by the cleanup
        self.addCleanup(file.close)
        file.write(data)
        file.flush()
        return file

    def test_a_reader_s_own_words_come_through(self):
        with self.assertRaises(ScoreError) as caught:
            run_isolated("score", self.source(b"no score"))
        self.assertEqual(caught.exception.code, "score.not_notation")

    def test_too_little_memory_ends_the_reader_not_the_caller(self):
        with self.assertRaises(SandboxError) as caught:
            run_isolated("sound", self.source(wav()), limits=Limits(memory=60_000_000))
        self.assertEqual(caught.exception.code, "sandbox.died")

    def test_the_deadline_kills(self):
        begun = time.monotonic()
        with self.assertRaises(SandboxError) as caught:
            run_isolated("sound", self.source(wav()), limits=Limits(wall_s=0.05))
        self.assertEqual(caught.exception.code, "sandbox.time")
        self.assertLess(time.monotonic() - begun, 3)

    def test_an_answer_larger_than_allowed_is_none(self):
        with self.assertRaises(SandboxError):
            run_isolated("sound", self.source(wav()), limits=Limits(output=100_000))

    def test_people_get_sentences_about_their_file_not_about_limits(self):
        tight = Limits(wall_s=0.05)
        with (
            mock.patch("didactor.core.sound.recording.SOUND_LIMITS", tight),
            self.assertRaisesMessage(AudioError, "could not be read safely"),
        ):
            open_recording(self.source(wav()))
        with mock.patch("didactor.core.score.open.SCORE_LIMITS", tight), self.assertRaisesMessage(ScoreError, "read safely"):
            prepare_isolated(self.source(musicxml()))

    def test_secrets_of_the_environment_stay_outside(self):
        source = self.source(musicxml())
        with (
            mock.patch.dict("os.environ", {"DIDACTOR_SECRET": "tide-table"}),
            mock.patch("subprocess.Popen", side_effect=OSError) as popen,
            self.assertRaises(OSError),
        ):
            run_isolated("score", source)
        self.assertNotIn("tide-table", str(popen.call_args))
        self.assertTrue(popen.call_args.kwargs["start_new_session"])
