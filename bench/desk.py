"""The listening desk by keyboard alone: keys a take takes, how soon the next one sounds, whether line and film are where the sound is.

    bench/desk              20 takes, as a teacher would hear them; some six minutes
    bench/desk --takes 60   a class: what everything but listening takes
    bench/desk --write      also refreshes its part of docs/benchmarks.md

Each take is rendered with faults or without, heard by the ear and handed in. Of each some seconds are heard; three findings are kept where
there are so many, what is proposed is taken over, the checklist is filled as heard, it is sent, and the next one plays. The line is held
against the media clock in every frame, a film against the sound. For the time a take needs, a key counts as 0.4 s of a person. Needs the
project's database. Prints its table; the last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import io
import sys
import time
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE)]

import numpy as np  # noqa: E402
import soxr  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from playwright.sync_api import Frame, Page, expect, sync_playwright  # noqa: E402
from report import close  # noqa: E402
from served import ARGUMENTS, EXECUTABLE, Server, end_sessions, scene_of, scenes  # noqa: E402 - before anything of Django

from didactor.assignments.models import Assignment  # noqa: E402
from didactor.assignments.services import give_to  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.core.sound.recording import RATE_HZ  # noqa: E402
from didactor.demo.film import film_of  # noqa: E402
from didactor.people.services import add_student  # noqa: E402
from didactor.review.models import Review  # noqa: E402
from didactor.takes.jobs import analyse_take  # noqa: E402
from didactor.takes.models import Submission, Take  # noqa: E402
from didactor.takes.services import receive_take, submit_take  # noqa: E402
from tests.music import played, wav  # noqa: E402

SIZE = {"width": 1280, "height": 800}
#: A person's time for a key, besides what the page takes.
KEY_S = 0.4
FAULTS = [{"kind": "wrong", "bar": bar, "beat": beat, "semitones": 2} for bar, beat in (("2", 0.0), ("6", 0.0), ("7", 2.0))]
#: When the sound of the page begins, counted from when a key was pressed on the page before.
SOUNDS = """() => new Promise((resolve) => {
  const audio = document.querySelector("[data-take-sound]");
  const now = () => resolve(performance.timeOrigin + performance.now());
  if (!audio.paused && audio.currentTime > 0) return now();
  const look = () => (!audio.paused && audio.currentTime > 0 ? now() : requestAnimationFrame(look));
  look();
})"""
WATCH = """() => {
  const audio = document.querySelector("[data-take-sound]");
  const { delay, duration, films } = JSON.parse(document.getElementById("player-data").textContent);
  window.seen = [];
  const look = () => {
    const line = document.querySelector("[data-wave] line");
    const video = document.querySelector("[data-film] video");
    const shown = (Number(line.getAttribute("x1")) / 1000) * duration;
    const pictured = video && films[0] ? video.currentTime - films[0].places[0][1] : null;
    window.seen.push([performance.now() / 1000, audio.currentTime - delay, shown, pictured]);
    if (window.seen.length < 400) requestAnimationFrame(look);
  };
  requestAnimationFrame(look);
}"""
#: From a click on a place to its sound.
PLACE = """(button) => new Promise((resolve) => {
  const audio = document.querySelector("[data-take-sound]");
  audio.pause();
  const begun = performance.now();
  audio.addEventListener("playing", () => resolve(performance.now() - begun), { once: true });
  button.click();
})"""


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--takes", type=int, default=20)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    server = Server()
    try:
        scene = scene_of(0)
        listening_s = _class(scene, options.takes)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=EXECUTABLE, args=[a for a in ARGUMENTS if "remote-debugging" not in a])
            page = browser.new_page(viewport=SIZE)
            _sign_in(page, server, scene)
            walked = _walk(page, options.takes)
            film = _film(page, server, scene)
            browser.close()
        sent = Review.objects.exclude(sent_at=None).count()
    finally:
        server.kill()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    p95 = lambda values: float(np.percentile(values, 95)) if len(values) else 0.0  # noqa: E731
    beside = [keys * KEY_S + spent for keys, spent in walked["beside"]]
    figures = {
        "takes_sent": sent,
        "keys_most": max(walked["keys"]),
        "next_plays_p95_ms": round(p95(walked["next_ms"])),
        "place_p95_ms": round(p95(walked["place_ms"])),
        "line_p95_ms": round(p95(walked["line_ms"]), 1),
        "film_p95_ms": round(p95(film), 1),
        "beside_listening_p95_s": round(p95(beside), 1),
        "listening_min": round(listening_s / 60, 1),
    }
    rows = [
        "| takes | heard in all, min | keys a take | everything else, s a take (median) | next plays, ms (median) |",
        "|---|---|---|---|---|",
    ]
    medians = f"{np.median(beside):.1f} | {np.median(walked['next_ms']):.0f}"
    rows.append(f"| {options.takes} | {listening_s / 60:.1f} | {np.mean(walked['keys']):.1f} | {medians} |")
    return close("desk", "\n".join(rows), figures, write=options.write)


def _class(scene: scenes.Scene, count: int) -> float:
    """So many students with a take each, every second one with faults; returns how long all of them last."""
    Assignment.objects.update(listen_first=False)
    total = 0.0
    for number in range(count):
        enrolment = add_student(studio=scene.teacher.studio, name=f"Student {number}", instrument="clarinet", level="advanced")
        give_to(assignment=scene.assignment, enrolments=[enrolment])
        task = scene.assignment.tasks.get(enrolment=enrolment)
        data = wav(*(FAULTS if number % 2 else []), seed=100 + number)
        take = receive_take(student=task.student, task=task, source=io.BytesIO(data), filename="take.wav")
        analyse_take(take_id=take.pk)
        submit_take(take=Take.objects.get(pk=take.pk))
        total += Take.objects.get(pk=take.pk).duration_s or 0.0
    return total


def _sign_in(page: Page, server: Server, scene: scenes.Scene) -> None:
    page.goto(f"http://127.0.0.1:{server.port}/sign-in/")
    page.get_by_label("Name").fill(scene.teacher.username)
    page.get_by_label("Password").fill(scenes.PASSWORD)
    page.get_by_role("button", name="Open my desk").click()
    page.get_by_role("link", name="Begin").click()


def _play(page: Page) -> None:
    """Press the key when the page can hear it."""
    expect(page.get_by_role("button", name="Play", exact=True)).to_be_visible(timeout=20_000)
    page.keyboard.press("Space")


def _shown(page: Page) -> Frame:
    """The take that is up: the first page of the sitting, later the frame in it."""
    up = page.query_selector("iframe.take-page.up")
    frame = up.content_frame() if up else None
    return frame or page.main_frame


def _walk(page: Page, count: int) -> dict[str, list[Any]]:
    """Hear, mark and send one take after the other."""
    found: dict[str, list[Any]] = {"keys": [], "next_ms": [], "place_ms": [], "line_ms": [], "beside": []}
    _play(page)
    pressed = 1
    for number in range(count):
        take = _shown(page)
        take.evaluate(SOUNDS)
        take.evaluate(WATCH)
        # Some of it is heard; the rest is listening, which is counted by its length.
        page.wait_for_timeout(2500)
        found["line_ms"] += _line(take)
        begun = time.monotonic()
        marks = take.locator("#marks li.proposed").count()
        for left in range(min(3, marks), 0, -1):
            page.keyboard.press("k")
            expect(take.locator("#marks li.kept")).to_have_count(min(3, marks) - left + 1)
            pressed += 1
        if marks:
            place = take.locator("#marks button.hear").first.element_handle()
            spent = time.monotonic()
            found["place_ms"].append(take.evaluate(PLACE, place))
            begun += time.monotonic() - spent
        page.keyboard.press("a")
        page.keyboard.press("c")
        # What is ticked is kept as a draft first, as by a person's hand.
        page.wait_for_timeout(300)
        address, at = page.url, page.evaluate("performance.timeOrigin + performance.now()")
        page.keyboard.press("s")
        pressed += 3
        page.wait_for_url(lambda url, old=address: url != old)
        if number < count - 1:
            found["next_ms"].append(_shown(page).evaluate(SOUNDS) - at)
        found["beside"].append((pressed, time.monotonic() - begun - 0.3))
        found["keys"].append(pressed)
        pressed = 0
    return found


def _line(page: Frame) -> list[float]:
    """How far the drawn line is from the media clock, whose steps are smoothed by a line through them, frame by frame, in ms."""
    seen = np.array([[a, b, c] for a, b, c, _ in page.evaluate("window.seen")])
    seen = seen[(seen[:, 1] > 0.3) & (seen[:, 1] < seen[:, 1].max() - 0.05)]
    if len(seen) < 20:
        return []
    slope, shift = np.polyfit(seen[:, 0], seen[:, 1], 1)
    return list(1000 * np.abs(seen[:, 2] - (slope * seen[:, 0] + shift)))


def _film(page: Page, server: Server, scene: scenes.Scene) -> list[float]:
    """A take with a picture: how far its film is from its sound, after the first second, in ms."""
    samples = soxr.resample(np.asarray(played(seed=900).samples), RATE_HZ, SYNTH_RATE_HZ)
    body = film_of(samples, list(np.arange(0.0, len(samples) / SYNTH_RATE_HZ, 60 / 92)))
    take = receive_take(student=scene.ylva.student, task=scene.task, source=io.BytesIO(body), filename="take.webm")
    analyse_take(take_id=take.pk)
    submit_take(take=Take.objects.get(pk=take.pk))
    submission = Submission.objects.get(take=take)
    page.goto(f"http://127.0.0.1:{server.port}/desk/{submission.pk}/")
    _play(page)
    page.evaluate(SOUNDS)
    page.wait_for_timeout(1500)
    page.evaluate(WATCH)
    page.wait_for_timeout(5000)
    return [1000 * abs(film - sound) for _, sound, _, film in page.evaluate("window.seen") if film is not None]


if __name__ == "__main__":
    sys.exit(main())
