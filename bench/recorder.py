"""Recordings that are interrupted: does every one arrive, whole and once, or is it said while there is time to act?

    bench/recorder              100 recordings in a real browser with a fake microphone; some 25 minutes
    bench/recorder --count 20   fewer; --only "device full" one way of interrupting
    bench/recorder --write      also refreshes its part of docs/benchmarks.md

Needs the project's database (bin/start or bin/test made it); uses a test database, a server and a browser of its own. At a random moment
the tab is closed without a word, the browser is killed, the network is cut while the take is sent, the server is killed while it is
sent, or the device has no room. Then it is looked at how much of the recording is with the server, how often, and whether what arrived
is what the microphone heard. Prints its table; the last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE)]

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from django.db import connection  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from playwright.sync_api import BrowserContext, CDPSession, Error, Page, Playwright, expect, sync_playwright  # noqa: E402
from report import close  # noqa: E402
from scipy.io import wavfile  # noqa: E402
from scipy.signal import fftconvolve  # noqa: E402
from served import ARGUMENTS, EXECUTABLE, OWN, Server, end_sessions, scene_of, scenes  # noqa: E402 - before anything of Django

from didactor.people.services import make_card  # noqa: E402
from didactor.takes.models import Take  # noqa: E402
from tests.music import wav  # noqa: E402

KINDS = ("tab closed", "browser killed", "network cut", "server killed", "device full")
#: A device that is full from about this moment of a recording on.
ROOM_BYTES = 150_000
#: A device that is not full yet is filled so often.
TRIES = 6


class Browser:
    """A browser with a profile on the disk, that can be killed like a telephone whose battery is empty."""

    def __init__(self, playwright: Playwright, microphone: Path) -> None:
        self.playwright, self.microphone, self.profile = playwright, microphone, OWN / "profile"
        self.start()

    def start(self) -> None:
        told = self.profile / "DevToolsActivePort"
        told.unlink(missing_ok=True)
        capture = f"--use-file-for-fake-audio-capture={self.microphone}"
        self.process = subprocess.Popen(
            [EXECUTABLE, *ARGUMENTS, capture, f"--user-data-dir={self.profile}", "about:blank"],
            start_new_session=True,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for _ in range(300):
            if told.exists() and told.read_text().strip():
                break
            time.sleep(0.1)
        self.connected = self.playwright.chromium.connect_over_cdp(f"http://127.0.0.1:{told.read_text().split()[0]}")
        self.context: BrowserContext = self.connected.contexts[0]

    def kill(self) -> None:
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()


class Trial:
    """One student who records; ``sent_once`` and the figures say what became of it."""

    def __init__(self, browser: Browser, server: Server, scene: scenes.Scene, rng: np.random.Generator) -> None:
        self.browser, self.server, self.scene, self.rng = browser, server, scene, rng
        self.said = False

    def page(self) -> Page:
        """A page of a student who is signed in."""
        page = self.browser.context.new_page()
        page.goto(f"http://127.0.0.1:{self.server.port}/in/{make_card(self.scene.ylva.student)}/")
        page.get_by_role("button", name="Open").click()
        expect(page.get_by_role("heading", name="This week")).to_be_visible(timeout=30_000)
        return page

    def record(self, page: Page) -> float:
        """Begin, and go on for some seconds. Returns when the first block was there, on the clock of the machine."""
        page.goto(f"http://127.0.0.1:{self.server.port}/stand/{self.scene.task.pk}/play/")
        page.get_by_role("button", name="Record at").click()
        expect(page.locator("[data-recording]")).to_be_visible(timeout=30_000)
        begun = time.time()
        time.sleep(float(self.rng.uniform(2.0, 6.0)))
        return begun

    def keep(self, page: Page) -> None:
        page.get_by_role("button", name="Stop").click()
        page.get_by_role("button", name="Keep this take").click()

    def arrive(self, page: Page) -> None:
        try:
            page.wait_for_url("**/stand/takes/*/", timeout=60_000)
        except Error:
            # All of it was sent before the server was killed; only the next page was not to be had.
            page.goto(f"http://127.0.0.1:{self.server.port}/stand/")
            expect(page.get_by_role("heading", name="This week")).to_be_visible(timeout=30_000)

    def send_what_is_left(self) -> None:
        page = self.page()
        page.get_by_role("button", name="Send it").click(timeout=30_000)
        self.arrive(page)
        page.close()

    def fill(self, session: CDPSession, origin: str) -> None:
        """Leave room for a few seconds more, as far as the browser tells what it uses."""
        usage = session.send("Storage.getUsageAndQuota", {"origin": origin})["usage"]
        session.send("Storage.overrideQuotaForOrigin", {"origin": origin, "quotaSize": usage + ROOM_BYTES})

    def run(self, kind: str) -> float:
        """Interrupt in one way, go on as a student would. Returns the seconds that lay between the start and the interruption."""
        page = self.page()
        if kind == "device full":
            session = self.browser.context.new_cdp_session(page)
            origin = f"http://127.0.0.1:{self.server.port}"
            self.fill(session, origin)
        begun = self.record(page)
        if kind == "tab closed":
            page.close(run_before_unload=False)
            seconds = time.time() - begun
            self.send_what_is_left()
        elif kind == "browser killed":
            self.browser.kill()
            seconds = time.time() - begun
            self.browser.start()
            self.send_what_is_left()
        elif kind == "device full":
            for _ in range(TRIES):
                try:
                    expect(page.get_by_text("no room for a copy")).to_be_visible(timeout=5_000)
                    break
                except AssertionError:
                    # What earlier recordings left was tidied away meanwhile: there is more room than it seemed.
                    self.fill(session, origin)
            else:
                raise SystemExit("the device could not be filled")
            self.said = True
            seconds = time.time() - begun
            page.get_by_role("button", name="Stop").click()
            page.get_by_role("button", name="Keep this take").click()
            self.arrive(page)
            session.send("Storage.overrideQuotaForOrigin", {"origin": origin})
            page.close()
        else:
            cut: dict[str, Callable[[], Any]] = {
                "network cut": lambda: self.browser.context.set_offline(True),
                "server killed": self.server.kill,
            }
            mended = {"network cut": lambda: self.browser.context.set_offline(False), "server killed": self.server.start}
            seconds = time.time() - begun
            page.get_by_role("button", name="Stop").click()
            if kind == "network cut":
                cut[kind]()
                page.get_by_role("button", name="Keep this take").click()
            else:
                page.get_by_role("button", name="Keep this take").click()
                time.sleep(float(self.rng.uniform(0.0, 0.15)))
                cut[kind]()
            time.sleep(float(self.rng.uniform(1.0, 6.0)))
            mended[kind]()
            self.arrive(page)
            page.close()
        return seconds


def correlation(heard: np.ndarray, source: np.ndarray, rate: int) -> float:
    """How much the middle of a recording, a second and a half, is like what the microphone played, 0..1, at the best place."""
    middle, half = len(heard) // 2, int(0.75 * rate)
    piece = heard[max(0, middle - half) : middle + half].astype(np.float64)
    long = np.concatenate([source, source]).astype(np.float64)
    against = fftconvolve(long, piece[::-1], mode="valid")
    energy = np.sqrt(np.maximum(fftconvolve(np.square(long), np.ones(len(piece)), mode="valid"), 1e-9))
    return float(np.max(against / (energy * max(np.linalg.norm(piece), 1e-9))))


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=100)
    parser.add_argument("--only", choices=KINDS)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    microphone = OWN / "microphone.wav"
    microphone.write_bytes(wav())
    rate, source = wavfile.read(microphone)
    rows: dict[str, list[tuple[bool, bool, float, float]]] = {kind: [] for kind in KINDS}
    server = Server()
    try:
        with sync_playwright() as playwright:
            browser = Browser(playwright, microphone)
            try:
                for number in range(options.count):
                    kind = options.only or KINDS[number % len(KINDS)]
                    trial = Trial(browser, server, scene_of(number), np.random.default_rng(number))
                    seconds = trial.run(kind)
                    connection.close()  # what another process wrote is seen anew
                    takes = list(Take.objects.filter(task=trial.scene.task))
                    arrived_rate, arrived = wavfile.read(takes[0].original.path) if takes else (rate, np.zeros(0))
                    like = correlation(arrived, soxr.resample(source.astype(np.float32), rate, arrived_rate), arrived_rate)
                    rows[kind].append((len(takes) == 1, trial.said, seconds - len(arrived) / arrived_rate, like))
                    print(
                        f"  {number + 1} {kind}: {len(takes)} take, {rows[kind][-1][2]:.2f} s lost, {like:.4f} alike",
                        file=sys.stderr,
                        flush=True,
                    )
            finally:
                browser.kill()
    finally:
        server.kill()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    return report({kind: found for kind, found in rows.items() if found}, options.write and not options.only)


def report(rows: dict[str, list[tuple[bool, bool, float, float]]], write: bool) -> int:
    lines = [
        "| interrupted by | recordings | arrived, and once | most lost at the end, s | least likeness to the source |",
        "|---|---|---|---|---|",
    ]
    every = [row for found in rows.values() for row in found]
    for kind, found in rows.items():
        if found:
            told = f"{sum(r[0] for r in found)}" + (
                f" ({sum(r[1] for r in found)} told that the device is full)" if kind == "device full" else ""
            )
            lines.append(f"| {kind} | {len(found)} | {told} | {max(r[2] for r in found):.2f} | {min(r[3] for r in found):.4f} |")
    figures = {
        "recordings": len(every),
        "arrived_percent": round(100 * sum(r[0] for r in every) / len(every), 1),
        "most_lost_s": round(max(r[2] for r in every), 2),
        "least_likeness": round(min(r[3] for r in every), 4),
    }
    return close("recorder", "\n".join(lines), figures, write=write)


if __name__ == "__main__":
    sys.exit(main())
