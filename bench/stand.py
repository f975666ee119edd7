"""Sitting down to play, in a browser: is the line where the sound is, how heavy and quick is the page, how soon is a sound judged?

    bench/stand            some eight minutes
    bench/stand --write    also refreshes its part of docs/benchmarks.md

The line is held against beeps that stand where the notes of a model, an accompaniment and a teacher's own playing are due, found again in
what the browser has decoded, for two minutes each; a beep counts as heard when the audio output's own clock says so. The phone is Chromium
with a quarter of this processor's speed and a slow line (150 ms, 1.6 Mbit/s). Needs the project's database. Prints its table; the last
line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import itertools
import sys
import time
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE)]

import numpy as np  # noqa: E402
from django.core.files.base import ContentFile  # noqa: E402
from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from playwright.sync_api import Browser, Page, expect, sync_playwright  # noqa: E402
from report import close  # noqa: E402
from served import ARGUMENTS, EXECUTABLE, Server, end_sessions, scene_of, scenes  # noqa: E402 - before anything of Django

from didactor.core.sound.mp3 import mp3_of  # noqa: E402
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ  # noqa: E402
from didactor.library.models import ModelSound, Reference, ReferenceSound  # noqa: E402
from didactor.library.notation import expectation_of_passage  # noqa: E402
from didactor.library.sounds import enters_s, sound_at  # noqa: E402
from didactor.people.services import make_card  # noqa: E402
from didactor.stand.playing import MODEL_LEAD_S  # noqa: E402
from tests.music import wav  # noqa: E402

SECONDS, TEMPO = 120.0, 92
PHONE = {"width": 390, "height": 844}
SLOW = {"offline": False, "latency": 150, "downloadThroughput": 1.6e6 / 8, "uploadThroughput": 750e3 / 8}
#: Keeps which sound was begun when, and looks at the line in every frame.
SPY = """
  window.begun = [];
  const start = AudioBufferSourceNode.prototype.start;
  AudioBufferSourceNode.prototype.start = function (when, offset, ...rest) {
    window.begun.push({ when, offset, buffer: this.buffer, context: this.context });
    return start.call(this, when, offset, ...rest);
  };
  window.seen = [];
  window.watch = () => {
    const line = document.querySelector(".now");
    if (!line.hidden && window.begun.length) {
      const box = line.getBoundingClientRect();
      const sheet = document.querySelector("[data-sheet]").getBoundingClientRect();
      const stamp = window.begun[0].context.getOutputTimestamp();
      const place = [box.left + box.width / 2 - sheet.left, box.top - sheet.top];
      window.seen.push([performance.now(), ...place, stamp.contextTime, stamp.performanceTime]);
    }
    requestAnimationFrame(window.watch);
  };
"""
#: When the beeps of a decoded sound begin: the first loud sample after 60 ms of silence.
BEEPS = """() => {
  const { buffer } = window.begun[0];
  const samples = buffer.getChannelData(0);
  const found = [];
  let quiet = buffer.sampleRate;
  for (let k = 0; k < samples.length; k += 1) {
    if (Math.abs(samples[k]) > 0.1) {
      if (quiet > 0.06 * buffer.sampleRate) found.push(k / buffer.sampleRate);
      quiet = 0;
    } else quiet += 1;
  }
  return { beeps: found, begun: window.begun.map(({ when, offset }) => [when, offset]) };
}"""
#: When a page can be used: its links when they are drawn, what needs scripts when those have run.
USABLE = """() => {
  const [timing] = performance.getEntriesByType("navigation");
  const [drawn] = performance.getEntriesByName("first-contentful-paint");
  return document.querySelector("[data-stage]") ? timing.domContentLoadedEventEnd : Math.max(timing.domInteractive, drawn.startTime);
}"""
HEADS = """(ids) => {
  const svg = [...document.querySelectorAll("svg.score")].find((e) => e.getBoundingClientRect().width > 0);
  const sheet = document.querySelector("[data-sheet]").getBoundingClientRect();
  return ids.map((id) => {
    const note = svg.querySelector(`g.note[data-id="${CSS.escape(id)}"]`);
    const box = (note.querySelector("g.notehead") ?? note).getBoundingClientRect();
    return [box.left + box.width / 2 - sheet.left, box.top - sheet.top];
  });
}"""


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    setup_test_environment()
    databases = setup_databases(verbosity=0, interactive=False)
    server = Server()
    try:
        scene = scene_of(0)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=EXECUTABLE, args=[a for a in ARGUMENTS if "remote-debugging" not in a])
            errors = {kind: _line_errors(browser, server, scene, kind) for kind in ("model", "accompaniment", "teacher")}
            weight = _page(browser, server, scene)
            browser.close()
        verdict_s = _verdict_s(scene)
    finally:
        server.kill()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    rows = ["| what sounds | notes passed | line against sound, median ms | p95 | most |", "|---|---|---|---|---|"]
    for kind, found in errors.items():
        sizes = np.abs(found)
        rows.append(f"| {kind} | {len(found)} | {np.median(found):+.1f} | {np.percentile(sizes, 95):.1f} | {sizes.max():.1f} |")
    every = np.abs(np.concatenate(list(errors.values())))
    figures = {
        "line_p95_ms": round(float(np.percentile(every, 95)), 1),
        "line_most_ms": round(float(every.max()), 1),
        "line_median_ms": round(float(np.median(every)), 1),
        **weight,
        "sound_check_s": round(verdict_s, 2),
    }
    return close("stand", "\n".join(rows), figures, write=options.write)


def _beeps(times_s: list[float], length_s: float) -> bytes:
    """An MP3 with a short beep at each time."""
    sound = np.zeros(int(length_s * SYNTH_RATE_HZ), dtype=np.float32)
    beep = (0.8 * np.sin(2 * np.pi * 1500 * np.arange(int(0.03 * SYNTH_RATE_HZ)) / SYNTH_RATE_HZ)).astype(np.float32)
    for time_s in times_s:
        at = round(time_s * SYNTH_RATE_HZ)
        sound[at : at + len(beep)] = beep[: max(0, len(sound) - at)]
    return mp3_of(sound, SYNTH_RATE_HZ)


def _kept_sound(scene: scenes.Scene, kind: str) -> None:
    """Beeps in the place of what would be rendered: where the notes of the passage are due."""
    task = scene.task
    expected = expectation_of_passage(task.passage)
    quarters = [n.onset_quarters for n in expected.notes if not n.grace]
    length = sum(bar.length_quarters for bar in expected.bars)
    quarter_s = 60.0 / TEMPO
    if kind == "teacher":
        # A time that bends: up to a fifth slower and quicker than the usual pace.
        grid = np.arange(0.0, length + 0.5, 0.5)
        pace = quarter_s * (1 + 0.2 * np.sin(grid * 0.9))
        seconds = 1.3 + np.concatenate([[0.0], np.cumsum(0.5 * (pace[1:] + pace[:-1]) / 2)])
        laid = {"anchors": [[float(q), float(s)] for q, s in zip(grid, seconds, strict=True)], "tempo_qpm": float(TEMPO)}
        own = ContentFile(wav(), name="own.wav")
        made = Reference.objects.create(passage=scene.passage, title="Mine", kind="sound", file=own, created_by=scene.teacher, laid=laid)
        times = [float(np.interp(q, grid, seconds)) for q in quarters]
        body = ContentFile(_beeps(times, float(seconds[-1]) + 1.5), name="beeps.mp3")
        ReferenceSound.objects.create(reference=made, tempo_qpm=float(TEMPO), sound=body)
        return
    if kind == "accompaniment":
        scene.passage.accompaniment = 1  # the beeps stand for it
        scene.passage.save()
    sound = sound_at(
        passage=task.passage,
        instrument=task.enrolment.instrument,
        tempo_qpm=float(TEMPO),
        count_off=scene.assignment.count_off if kind == "accompaniment" else 0,
        accompaniment=kind == "accompaniment",
    )
    assert sound is not None
    lead_s = enters_s(sound) if kind == "accompaniment" else MODEL_LEAD_S
    body = _beeps([lead_s + q * quarter_s for q in quarters], lead_s + length * quarter_s + 1.5)
    sound.sound.save("beeps.mp3", ContentFile(body))
    ModelSound.objects.filter(pk=sound.pk).update(failed=False)


def _signed_in(browser: Browser, server: Server, scene: scenes.Scene) -> Page:
    page = browser.new_context(viewport=PHONE, permissions=["microphone"]).new_page()
    page.goto(f"http://127.0.0.1:{server.port}/in/{make_card(scene.ylva.student)}/")
    page.get_by_role("button", name="Open").click()
    expect(page.get_by_role("heading", name="This week")).to_be_visible(timeout=30_000)
    return page


def _line_errors(browser: Browser, server: Server, scene: scenes.Scene, kind: str) -> np.ndarray:
    """Milliseconds by which the line passes each head after its beep is heard."""
    _kept_sound(scene, kind)
    page = _signed_in(browser, server, scene)
    page.add_init_script(SPY)
    page.goto(f"http://127.0.0.1:{server.port}/stand/{scene.task.pk}/play/")
    page.locator("[data-more] summary").click()
    helps = {"model": "melody", "teacher": "melody", "accompaniment": "accompaniment"}
    for box in page.locator("[data-help]").all():
        box.set_checked(box.get_attribute("data-help") == helps[kind])
    if page.locator("[data-by]").count():
        page.locator("[data-by]").select_option(index=0 if kind == "teacher" else page.locator("[data-by] option").count() - 1)
    page.get_by_label("round and round").check()
    page.locator("[data-more] summary").click()
    page.get_by_role("button", name="Play", exact=True).click()
    page.wait_for_function("() => window.begun.length > 0", timeout=60_000)
    page.evaluate("() => { window.watch(); }")
    time.sleep(SECONDS)
    page.get_by_role("button", name="Stop", exact=True).click()
    seen = np.array(page.evaluate("() => window.seen"))
    found = page.evaluate(BEEPS)
    notes = [n.id for n in expectation_of_passage(scene.task.passage).notes if not n.grace]
    heads = page.evaluate(HEADS, notes)
    page.context.close()
    return _errors_ms(seen, found, heads)


def _errors_ms(seen: np.ndarray, found: dict[str, Any], heads: list[list[float]]) -> np.ndarray:
    """Each beep of each round against the moment at which the line crossed its head."""
    beeps = found["beeps"]
    assert len(beeps) == len(heads), f"{len(beeps)} beeps for {len(heads)} notes"
    errors = []
    for when, offset in found["begun"]:
        for beep, (x, _) in zip(beeps, heads, strict=True):
            at_context = when + beep - offset
            frame = int(np.argmin(np.abs(seen[:, 3] - at_context)))
            heard_ms = seen[frame, 4] + 1000.0 * (at_context - seen[frame, 3])
            near = np.flatnonzero(np.abs(seen[:, 0] - heard_ms) < 150)
            crossed = [
                seen[a, 0] + (x - seen[a, 1]) / (seen[b, 1] - seen[a, 1]) * (seen[b, 0] - seen[a, 0])
                for a, b in itertools.pairwise(near)
                if seen[a, 2] == seen[b, 2] and seen[a, 1] <= x < seen[b, 1]
            ]
            if crossed:
                errors.append(min((c - heard_ms for c in crossed), key=abs))
    return np.array(errors)


def _page(browser: Browser, server: Server, scene: scenes.Scene) -> dict[str, float]:
    """Compressed script of the playing page, and how soon the stand can be used on a slow phone: anew, and once it was opened."""
    page = _signed_in(browser, server, scene)
    session = page.context.new_cdp_session(page)
    session.send("Network.enable")
    sizes: dict[str, float] = {}
    kinds: dict[str, str] = {}
    session.on("Network.responseReceived", lambda e: kinds.__setitem__(e["requestId"], e["type"]))
    session.on("Network.loadingFinished", lambda e: sizes.__setitem__(e["requestId"], e["encodedDataLength"]))
    session.send("Network.setCacheDisabled", {"cacheDisabled": True})
    session.send("Network.setBypassServiceWorker", {"bypass": True})
    page.goto(f"http://127.0.0.1:{server.port}/stand/{scene.task.pk}/play/")
    page.wait_for_load_state("networkidle")
    script = sum(size for key, size in sizes.items() if kinds.get(key) == "Script")
    session.send("Network.setCacheDisabled", {"cacheDisabled": False})
    session.send("Network.setBypassServiceWorker", {"bypass": False})
    session.send("Emulation.setCPUThrottlingRate", {"rate": 4})
    session.send("Network.emulateNetworkConditions", SLOW)
    usable = []
    for address in ("/stand/", f"/stand/{scene.task.pk}/play/"):
        page.goto(f"http://127.0.0.1:{server.port}{address}")
        page.wait_for_load_state("load")
        usable.append(page.evaluate(USABLE) / 1000.0)
    page.context.close()
    return {"page_script_kb": round(script / 1000, 1), "stand_usable_s": round(usable[0], 2), "playing_usable_s": round(usable[1], 2)}


def _verdict_s(scene: scenes.Scene) -> float:
    """Seconds until the server has judged five seconds of sound, the median of five."""
    from didactor.takes.soundcheck import check_sound

    rate_bytes = wav()
    five = rate_bytes[: 44 + 5 * 32_000 * 2]
    seconds = []
    for _ in range(5):
        begun = time.perf_counter()
        check_sound(five)
        seconds.append(time.perf_counter() - begun)
    return float(np.median(seconds))


if __name__ == "__main__":
    sys.exit(main())
