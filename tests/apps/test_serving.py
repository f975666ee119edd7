"""Pages from several processes: one that dies is replaced, and all end with the one that began them."""

from __future__ import annotations

import http.client
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from io import StringIO
from pathlib import Path

from django.core.management import CommandError, call_command
from django.test import SimpleTestCase

ROOT = Path(__file__).resolve().parents[2]
OWN = {**os.environ, "DJANGO_SETTINGS_MODULE": "didactor.config.settings"}
#: Renders a page in each language; prints how many templates were loaded before it, and how many more files it had to read.
RENDERED = """
import sys
from django.template.loader import render_to_string
from django.utils.translation import override
from didactor.web.loading import load_pages
count, read = load_pages(), []
sys.addaudithook(lambda event, what: event == "open" and str(what[0]).endswith((".html", ".mo")) and read.append(what[0]))
for language in ("en", "de"):
    with override(language):
        render_to_string("people/sign_in.html")
print(count, len(read))
"""
#: Prints how much is passed over, and how soon the rest is looked through, in a process that was begun.
BEGUN = """
import gc, os
from didactor.web.processes import keep_running
def work():
    print(gc.get_freeze_count(), gc.get_threshold()[0], flush=True)
    os.kill(os.getppid(), 15)
keep_running([work])
"""


def within(seconds: float, what: Callable[[], object]) -> bool:
    until = time.monotonic() + seconds
    while not what():
        if time.monotonic() > until:
            return False
        time.sleep(0.05)
    return True


class ServeTests(SimpleTestCase):
    def setUp(self):
        with socket.create_server(("127.0.0.1", 0)) as probe:
            self.port = probe.getsockname()[1]
        command = [sys.executable, "manage.py", "serve", f"--listen=127.0.0.1:{self.port}", "--processes=2"]
        self.process = subprocess.Popen(command, cwd=ROOT, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, process_group=0)
        self.addCleanup(self.end)
        self.assertTrue(within(30, self.answers))

    def end(self) -> None:
        if self.process.poll() is None:
            os.killpg(self.process.pid, signal.SIGKILL)
            self.process.wait()

    def answers(self) -> bool:
        line = http.client.HTTPConnection("127.0.0.1", self.port, timeout=5)
        try:
            line.request("GET", "/health/")
            return line.getresponse().status == 200
        except OSError:
            return False
        finally:
            line.close()

    def children(self) -> set[int]:
        return {int(pid) for pid in Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text().split()}

    def test_one_that_dies_is_replaced_and_meanwhile_the_other_answers(self):
        self.assertTrue(within(10, lambda: len(self.children()) == 2))
        before = self.children()
        gone = min(before)
        os.kill(gone, signal.SIGKILL)
        self.assertTrue(self.answers())
        self.assertTrue(within(10, lambda: len(self.children() - {gone}) == 2))
        self.assertEqual(len(self.children() & before), 1)
        self.assertTrue(all(self.answers() for _ in range(10)))

    def test_all_end_with_the_one_that_began_them_however_it_ends(self):
        for how in (signal.SIGTERM, signal.SIGKILL):
            self.assertTrue(within(10, lambda: len(self.children()) == 2))
            self.process.send_signal(how)
            self.process.wait(10)
            self.assertTrue(within(10, lambda: not self.answers()), how)
            with socket.create_server(("127.0.0.1", self.port)):
                """Nothing holds the port."""
            if how == signal.SIGTERM:
                self.setUp()

    def test_a_place_that_is_taken_or_no_place_is_told(self):
        for listen, said in ((f"127.0.0.1:{self.port}", "Nothing can listen at"), ("127.0.0.1", "an address and a port")):
            command = [sys.executable, "manage.py", "serve", f"--listen={listen}"]
            ended = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, timeout=60, check=False)
            self.assertEqual(ended.returncode, 1)
            self.assertIn(said, ended.stderr)
            self.assertNotIn("Traceback", ended.stderr)
        with self.assertRaises(CommandError):
            call_command("serve", "--processes=0", stdout=StringIO())


class LoadedBeforehandTests(SimpleTestCase):
    """What all pages need is there before the first of them is asked for, and is not looked through again."""

    def told(self, program: str) -> list[int]:
        command = [sys.executable, "-c", f"import django; django.setup(){program}"]
        ran = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, timeout=60, check=True, env=OWN)
        return [int(number) for number in ran.stdout.split()]

    def test_a_page_reads_no_template_and_no_catalogue_any_more(self):
        loaded, read = self.told(RENDERED)
        self.assertGreater(loaded, 100)
        self.assertEqual(read, 0)

    def test_what_is_loaded_is_passed_over_in_every_process_that_is_begun(self):
        frozen, looked_through_after = self.told(BEGUN)
        self.assertGreater(frozen, 50_000)
        self.assertGreater(looked_through_after, 700)
