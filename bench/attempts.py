"""How soon is the verdict on an attempt on the screen? Over the real page, with a web server, processes that listen, and a browser.

    bench/attempts            12 attempts of 8 s by one student, 10 by each of two at once; some six minutes
    bench/attempts --write    also refreshes its part of docs/benchmarks.md

Needs the project's database (bin/start or bin/test made it); uses a test database, a server and a browser of its own. A simulated player
hears the count-off in the page and plays; faultless attempts and wrong notes in turn. Seconds count from the due end of the last note to
the words on the screen. Prints its table; the last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE)]

import numpy as np  # noqa: E402
from django.db import connection  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from playwright.sync_api import Browser, Page, expect, sync_playwright  # noqa: E402
from report import close  # noqa: E402
from served import ARGUMENTS, EXECUTABLE, OWN, ROOT, Server, end_sessions, scene_of, scenes  # noqa: E402 - before anything of Django

from didactor.assignments.models import Assignment  # noqa: E402
from didactor.people.services import make_card  # noqa: E402
from didactor.practice.models import Attempt  # noqa: E402
from didactor.practice.music import music_of_stone  # noqa: E402
from didactor.practice.state import state_of  # noqa: E402
from tests.browser.student import playing, student_script  # noqa: E402

ALONE, TOGETHER = 12, 10
TEMPO, BARS = 92.0, "5-7"
TAKEN_FOR = {"clean": "taken for faultless", "fault": "for faulty", "unsure": "not told"}
#: The student's script tells when the last note was due to end; this one when the verdict's words came.
WATCH = """
window.told = [];
document.addEventListener("DOMContentLoaded", () => {
  const line = document.querySelector("[data-fault]");
  const tell = () => {
    if (!line.textContent || !window.lastNoteEnds) return;
    window.told.push([(performance.now() - window.lastNoteEnds) / 1000, line.textContent]);
    window.lastNoteEnds = 0;
  };
  if (line) new MutationObserver(tell).observe(line, { childList: true });
});
"""


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    server = Server()
    environment = {**os.environ, "PYTHONPATH": str(ROOT), "DIDACTOR_DB_NAME": str(connection.settings_dict["NAME"])}
    listener = subprocess.Popen([sys.executable, str(ROOT / "manage.py"), "listen"], env=environment, cwd=ROOT)
    try:
        wait_for_the_ear()
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=EXECUTABLE, args=[a for a in ARGUMENTS if "remote-debugging" not in a])
            alone = told_by(begun([scene_of(0)], browser, server), ALONE)
            both = told_by(begun([scene_of(1), scene_of(2)], browser, server), TOGETHER)
            browser.close()
        outcomes = [row.outcome for row in Attempt.objects.filter(ended=True)]
    finally:
        listener.terminate()
        server.kill()
        listener.wait()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    rows = ["| students | attempts | verdict after the last note, s (median) | p95 | most |", "|---|---|---|---|---|"]
    for who, found in (("one", alone), ("two at once", both)):
        rows.append(f"| {who} | {len(found)} | {np.median(found):.2f} | {np.percentile(found, 95):.2f} | {max(found):.2f} |")
    taken = ", ".join(f"{outcomes.count(slug)} {words}" for slug, words in TAKEN_FOR.items())
    rows.append(f"\nOf all attempts: {taken}.")
    figures = {
        "verdict_p95_s": round(float(np.percentile(alone, 95)), 2),
        "verdict_two_at_once_p95_s": round(float(np.percentile(both, 95)), 2),
    }
    return close("attempts", "\n".join(rows), figures, write=options.write)


def wait_for_the_ear() -> None:
    """Until the socket is there and what listens behind it is warm."""
    for _ in range(300):
        if (OWN / "live.sock").exists():
            break
        time.sleep(0.1)
    time.sleep(12)


def begun(scenes_: list[scenes.Scene], browser: Browser, server: Server) -> list[Page]:
    """Pages on which students practise hands free, all at the same time."""
    pages = []
    for number, scene in enumerate(scenes_):
        Assignment.objects.filter(pk=scene.assignment.pk).update(
            stage="at_tempo", tempo=TEMPO, count_off=4, crossing={"good": 10, "of": 20, "counts": "notes", "bars": BARS}
        )
        scene.passage.segments = [BARS]
        scene.passage.save()
        state = state_of(scene.task)
        stone = state.stones[0]
        music = music_of_stone(scene.task, stone)
        plays = []
        for seed in range(8):
            note = music.notes[3 + seed]
            faults = [{"kind": "wrong", "bar": note.bar, "beat": note.beat, "semitones": 2}] if seed % 4 == 1 else []
            plays.append(playing(music, "clarinet", TEMPO, *faults, seed=20 * number + seed))
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        page.goto(f"http://127.0.0.1:{server.port}/in/{make_card(scene.ylva.student)}/")
        page.get_by_role("button", name="Open").click()
        expect(page.get_by_role("heading", name="This week")).to_be_visible(timeout=30_000)
        page.context.add_init_script(student_script({stone.name: plays}))
        page.context.add_init_script(WATCH)
        page.goto(f"http://127.0.0.1:{server.port}/practice/{scene.task.pk}/")
        expect(page.locator(".stone.at").first).to_be_visible(timeout=30_000)
        pages.append(page)
    for page in pages:
        page.get_by_role("button", name="Begin").click()
    return pages


def told_by(pages: list[Page], count: int) -> list[float]:
    """Seconds after the last note at which each verdict came, the first of each page left out: it reads the passage."""
    found: list[float] = []
    for page in pages:
        for _ in range(count * 40):
            told = page.evaluate("window.told")
            if len(told) > count:
                break
            if page.locator("[data-remedy-aside]").is_visible():
                page.locator("[data-remedy-aside]").click()
                page.locator("[data-go]").click()
            time.sleep(0.5)
        found += [seconds for seconds, words in told[1 : count + 1] if seconds > 0]
        page.close()
    return found


if __name__ == "__main__":
    sys.exit(main())
