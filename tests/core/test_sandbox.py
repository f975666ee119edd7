"""The sandbox holds: memory, time, room, and nothing of this process leaks in."""

from __future__ import annotations

import base64
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from didactor.core.errors import AudioError, BusyError, SandboxError, ScoreError
from didactor.core.sandbox.confine import compiled_filter, suffices
from didactor.core.sandbox.run import ROOT, Limits, layers_that_hold, run_isolated
from didactor.core.score.open import prepare_isolated
from didactor.core.sound.playback import COPY_BITS_PER_S
from didactor.core.sound.player.take import wav_bytes
from didactor.core.sound.recording import MAX_DURATION_S, RATE_HZ, SOUND_LIMITS, open_recording
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

    def test_who_has_waited_long_enough_is_told_that_much_is_done_here_and_nothing_of_the_file(self):
        begun = time.monotonic()
        tight = Limits(wall_s=0.05)
        with self.assertRaises(BusyError) as caught:
            run_isolated("sound", self.source(wav()), limits=tight)
        self.assertEqual(caught.exception.code, "sandbox.busy")
        self.assertLess(time.monotonic() - begun, 3)
        with mock.patch("didactor.core.sound.recording.SOUND_LIMITS", tight), self.assertRaisesMessage(BusyError, "try again"):
            open_recording(self.source(wav()))
        with mock.patch("didactor.core.score.open.SCORE_LIMITS", tight), self.assertRaisesMessage(BusyError, "try again"):
            prepare_isolated(self.source(musicxml()))

    def test_a_file_is_stopped_by_its_own_seconds(self):
        tune = b"X:1\nK:C\n" + b"CDEF GABc |" * 4_800
        with self.assertRaises(SandboxError) as caught:
            run_isolated("score", self.source(tune), limits=Limits(cpu_s=2))
        self.assertEqual(caught.exception.code, "sandbox.died")

    def test_an_answer_larger_than_allowed_is_none(self):
        with self.assertRaises(SandboxError):
            run_isolated("sound", self.source(wav()), limits=Limits(output=100_000))

    def test_people_get_sentences_about_their_file_not_about_limits(self):
        tight = Limits(memory=60_000_000)
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


#: Run inside a confined process: what an attacker with code running there would try first. Each prints what came of it.
ATTACK = """
import json, os, socket, sys, threading
root, filter_, secret, parent = sys.argv[1:5]
sys.path.insert(0, root)
from didactor.core.sandbox.confine import confine
import base64, ctypes, subprocess
layers = confine(root, base64.b64decode(filter_))
libc = ctypes.CDLL(None, use_errno=True)
def tried(name, action):
    try:
        result = action()
        done[name] = not (isinstance(result, int) and result < 0)
    except (OSError, PermissionError, BlockingIOError, RuntimeError):
        done[name] = False
def fork():
    pid = os.fork()
    if pid == 0:
        os._exit(0)
    os.waitpid(pid, 0)
done = {}
tried("read a file of ours", lambda: open(secret).read())
tried("read the accounts", lambda: open("/etc/passwd").read())
tried("read another process", lambda: open(f"/proc/{parent}/environ").read())
tried("list the root", lambda: os.listdir("/"))
tried("list our checkout", lambda: os.listdir(root))
tried("write", lambda: open("/tmp/left-behind", "w"))
tried("write beside the code", lambda: open(os.path.join(root, "didactor/core/left.py"), "w"))
tried("open a UDP port", lambda: socket.socket(socket.AF_INET, socket.SOCK_DGRAM).bind(("127.0.0.1", 0)))
tried("connect", lambda: socket.create_connection(("127.0.0.1", int(sys.argv[5])), 2))
tried("open a Unix socket", lambda: socket.socket(socket.AF_UNIX))
tried("fork", fork)
tried("start a program", lambda: subprocess.run(["/bin/true"]))
tried("kill the parent", lambda: libc.kill(int(parent), 0))
tried("trace the parent", lambda: libc.ptrace(16, int(parent), 0, 0))
tried("mount", lambda: libc.mount(b"none", b"/tmp", b"tmpfs", 0, None))
tried("leave by another namespace", lambda: libc.unshare(0x10000000))
thread = threading.Thread(target=lambda: done.__setitem__("thread", True))
thread.start(); thread.join()
import wave
done["import of what is there"] = True
print(json.dumps([layers, done]))
"""
HARMLESS = {"thread", "import of what is there"}


class ConfinementTests(SimpleTestCase):
    """From inside the child: nothing of ours can be reached. Holds where the kernel has the layers; the last test says which do."""

    def attack(self) -> tuple[list[str], dict[str, bool]]:
        with tempfile.NamedTemporaryFile("w") as secret, socket.create_server(("127.0.0.1", 0)) as server:
            secret.write("a child's recording")
            secret.flush()
            filter_ = base64.b64encode(compiled_filter()).decode()
            port = str(server.getsockname()[1])
            run = subprocess.run(
                [sys.executable, "-I", "-c", ATTACK, str(ROOT), filter_, secret.name, str(os.getpid()), port],
                capture_output=True,
                text=True,
                timeout=30,
                env={"OPENBLAS_NUM_THREADS": "1"},
                check=False,
            )
        self.assertEqual(run.returncode, 0, run.stderr)
        layers, done = json.loads(run.stdout)
        return layers, done

    def test_nothing_of_ours_can_be_reached(self):
        layers, done = self.attack()
        if not suffices(layers):
            self.skipTest(f"this kernel allows only {layers}")
        self.assertEqual({name for name, succeeded in done.items() if succeeded}, HARMLESS)

    def test_every_reader_still_reads_and_tells_what_held(self):
        layers = set(layers_that_hold())
        self.assertLessEqual({"no_new_privs", "syscalls"}, layers)
        with tempfile.TemporaryFile() as score, tempfile.TemporaryFile() as sound:
            score.write(musicxml())
            sound.write(wav())
            for file in (score, sound):
                file.flush()
            answer = run_isolated("score", score)
            self.assertEqual(set(answer.layers), layers)
            with tempfile.TemporaryFile() as prepared:
                prepared.write(answer.body)
                prepared.flush()
                self.assertIn("<svg", run_isolated("engrave", prepared, {"part": 1, "bars": None, "layout": "desk"}).head["svg"])
            self.assertGreater(run_isolated("sound", sound, {"copy": True}).head["copy"]["bytes"], 1000)

    def test_in_operation_nothing_is_read_behind_too_little(self):
        data = tempfile.TemporaryFile()  # noqa: SIM115 - closed by the cleanup
        self.addCleanup(data.close)
        data.write(musicxml())
        data.flush()
        without_filter = mock.patch("didactor.core.sandbox.run.compiled_filter", return_value=b"")
        with without_filter, mock.patch.dict(os.environ, DIDACTOR_HTTPS="1"), self.assertRaisesMessage(ScoreError, "reads none"):
            prepare_isolated(data)
        with without_filter, mock.patch.dict(os.environ, DIDACTOR_HTTPS="1", DIDACTOR_WEAK_SANDBOX="1"):
            prepare_isolated(data)
        with without_filter, mock.patch.dict(os.environ, DIDACTOR_HTTPS="1"), self.assertRaisesMessage(SandboxError, "reads none"):
            open_recording(data)
        with without_filter:  # on one's own machine
            prepare_isolated(data)
        with mock.patch.dict(os.environ, DIDACTOR_HTTPS="1"):
            prepare_isolated(data)

    def test_what_is_enough(self):
        for layers, enough in (
            (["syscalls", "landlock"], True),
            (["syscalls", "namespaces", "user"], True),
            (["syscalls", "namespaces", "no_new_privs"], False),
            (["landlock", "namespaces", "user"], False),
            ([], False),
        ):
            self.assertIs(suffices(layers), enough, layers)


class HostileSoundTests(SimpleTestCase):
    def opened(self, data: bytes) -> str:
        with tempfile.TemporaryFile() as file:
            file.write(data)
            file.flush()
            with self.assertRaises(AudioError) as caught:
                open_recording(file)
        return caught.exception.code

    def test_a_file_that_names_other_files_is_not_looked_into(self):
        with tempfile.NamedTemporaryFile(suffix=".wav") as secret:
            secret.write(wav())
            secret.flush()
            for text in (
                f"ffconcat version 1.0\nfile '{secret.name}'\n",
                f"#EXTM3U\n#EXT-X-TARGETDURATION:9\n#EXTINF:9,\n{secret.name}\n#EXT-X-ENDLIST\n",
                "v=0\no=- 0 0 IN IP4 127.0.0.1\ns=x\nc=IN IP4 127.0.0.1\nt=0 0\nm=audio 45000 RTP/AVP 0\n",
            ):
                self.assertEqual(self.opened(text.encode()), "audio.not_sound")

    def test_a_few_bytes_at_one_hertz_are_no_hour_of_sound(self):
        for rate, refused in ((1, True), (3999, True), (4000, False)):
            data = wav_bytes(np.zeros(8000, dtype=np.float32) + 0.1, rate)
            if refused:
                self.assertEqual(self.opened(data), "audio.rate")
            else:
                with tempfile.TemporaryFile() as file:
                    file.write(data)
                    file.flush()
                    self.assertAlmostEqual(open_recording(file).duration_s, 2.0, delta=0.1)

    def test_twenty_minutes_and_their_copy_fit(self):
        room = SOUND_LIMITS.output
        self.assertGreater(room, MAX_DURATION_S * (RATE_HZ * 4 + COPY_BITS_PER_S / 8))
