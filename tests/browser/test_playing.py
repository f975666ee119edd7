"""Sitting down to play in a real browser: a line that goes with the sound, loops, tempi, pedals, and the beat of the chosen tempo."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from didactor.assignments.models import Assignment
from didactor.library.jobs import render_model
from didactor.library.sounds import sound_at
from didactor.takes.models import Take
from tests.browser.base import DESK, PHONE, BrowserTestCase

#: Where the line stands: its x in the page, or nothing while it is not shown.
LINE = "() => { const line = document.querySelector('.now'); return line.hidden ? null : line.getBoundingClientRect().left; }"
#: What was begun on the audio clock: when, from where in the sound, for how long.
SPY = """
  window.begun = [];
  const start = AudioBufferSourceNode.prototype.start;
  AudioBufferSourceNode.prototype.start = function (...when) { window.begun.push(when); return start.apply(this, when); };
"""

#: Waits until addresses that begin so are kept on the device.
KEPT = """async (wanted) => {
  for (;;) {
    const names = (await caches.keys()).filter((name) => name.startsWith("private-"));
    const requests = await Promise.all(names.map(async (name) => (await caches.open(name)).keys()));
    const kept = requests.flat().map((request) => new URL(request.url).pathname);
    if (wanted.every((start) => kept.some((path) => path.startsWith(start)))) return;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}"""

#: Waits until nothing private is kept on the device.
WIPED = """async () => {
  while ((await caches.keys()).some((name) => name.startsWith("private-"))) await new Promise((resolve) => setTimeout(resolve, 100));
}"""


class PlayingTests(BrowserTestCase):
    def stand(self, size: dict[str, int] = DESK, **fields: object) -> Page:
        Assignment.objects.update(**fields)
        page = self.page(self.scene.ylva.student, size)
        page.add_init_script(SPY)
        page.goto(self.at(f"/stand/{self.scene.task.pk}/play/"))
        return page

    def with_help(self, page: Page, value: str) -> None:
        page.locator("[data-more] summary").click()
        for box in page.locator("[data-help]").all():
            box.set_checked(box.get_attribute("data-help") in value.split())
        page.locator("[data-more] summary").click()

    def line(self, page: Page) -> float | None:
        return page.evaluate(LINE)

    def moved_on(self, page: Page, beyond: float) -> float:
        page.wait_for_function(f"([x]) => {{ const now = ({LINE})(); return now !== null && now > x; }}", arg=[beyond])
        found = self.line(page)
        assert found is not None
        return found

    def test_the_line_goes_over_the_score_with_the_beat_and_a_pedal_stops_it(self):
        page = self.stand(PHONE, tempo=200.0, count_off=2)
        self.no_sideways_scrolling(page)
        self.with_help(page, "beat")
        self.assertIsNone(self.line(page))
        page.get_by_role("button", name="Play").click()
        expect(page.locator("[data-beats]")).to_have_text(re.compile("[12]"))
        first = self.moved_on(page, 0)
        self.moved_on(page, first + 40)
        page.keyboard.press("Escape")
        page.locator("[data-stage]").focus()
        page.keyboard.press(" ")
        expect(page.get_by_role("button", name="Play")).to_be_visible()
        self.assertIsNone(self.line(page))

    def test_the_model_is_heard_from_the_chosen_bar_round_and_round(self):
        task = self.scene.task
        sound = sound_at(passage=task.passage, instrument="clarinet", tempo_qpm=92.0)
        assert sound is not None
        render_model(model_sound_id=sound.pk)
        page = self.stand()
        page.locator("[data-more] summary").click()
        page.locator("[data-from]").select_option("3")
        page.locator("[data-to]").select_option("3")
        page.get_by_label("round and round").check()
        page.locator("[data-more] summary").click()
        self.assertEqual(page.locator(".wide rect.bar.looped").count(), 1)
        page.get_by_role("button", name="Play").click()
        page.wait_for_function("() => window.begun.length > 1")
        (at, offset, seconds), (again, *_rest) = page.evaluate("() => window.begun")[:2]
        # An anacrusis of one quarter and two bars of four come before bar 3.
        quarter = 60 / 92
        self.assertAlmostEqual(offset, 0.3 + 9 * quarter, places=3)
        self.assertAlmostEqual(seconds, 4 * quarter, places=3)
        self.assertAlmostEqual(again - at, 4 * quarter, places=3)

    def test_the_student_s_own_tempo_counts_off_and_goes_with_the_take(self):
        page = self.stand(PHONE, stage="first_reading", tempo=160.0, count_off=2)
        page.get_by_role("button", name="Slower").click()
        page.get_by_role("button", name="Record at 152").click()
        expect(page.get_by_text("Stop and think wherever you need to")).to_be_visible(timeout=30_000)
        expect(page.get_by_role("button", name="Play")).not_to_be_visible()
        page.get_by_role("button", name="Stop").click()
        page.get_by_role("button", name="Keep this take").click()
        page.wait_for_url("**/takes/*/")
        take = Take.objects.get()
        self.assertEqual(take.own_tempo, 152)
        first, second = take.basis["targets"]["clicks_s"][:2]
        self.assertAlmostEqual(second - first, 60 / 152, places=2)

    def test_the_sound_is_checked_before_the_first_take_of_a_day(self):
        page = self.stand(PHONE)
        expect(page.get_by_text("check the sound before you record")).to_be_visible()
        page.get_by_role("button", name="Check the sound").click()
        expect(page.get_by_text("Play a few notes")).to_be_visible()
        expect(page.locator("[data-sound-says]")).to_contain_text(re.compile("this will do|microphone|room|level|moment"), timeout=30_000)
        expect(page.locator("[data-sound-listen]")).to_be_visible()
        self.assertGreater(page.locator("[data-input] option").count(), 0)
        self.accessible(page)
        self.no_sideways_scrolling(page)
        page.locator("[data-sound-done]").click()
        expect(page.get_by_role("button", name="Record at 92")).to_be_visible()
        self.assertFalse(Take.objects.exists())

    def test_once_opened_a_task_works_without_a_connection_and_sends_later(self):
        """Page, sound and scripts come from the device; what is recorded meanwhile is sent when the connection is back."""
        task = self.scene.task
        sound = sound_at(passage=task.passage, instrument="clarinet", tempo_qpm=92.0)
        assert sound is not None
        render_model(model_sound_id=sound.pk)
        page = self.stand(PHONE, tempo=92.0, count_off=2)
        page.evaluate(KEPT, [f"/stand/{task.pk}/play/", "/stand/", "/library/models/"])
        page.context.set_offline(True)
        page.reload()
        expect(page.get_by_role("button", name="Play")).to_be_visible()
        page.get_by_role("button", name="Play").click()
        self.moved_on(page, 0)
        page.keyboard.press("Escape")
        page.locator("[data-stage]").focus()
        page.keyboard.press(" ")
        page.get_by_role("button", name="Record at 92").click()
        expect(page.get_by_text("Recording.")).to_be_visible(timeout=30_000)
        page.get_by_role("button", name="Stop").click()
        page.get_by_role("button", name="Keep this take").click()
        expect(page.get_by_text("The take is safe on this device")).to_be_visible(timeout=60_000)
        page.goto(self.at("/stand/"))
        expect(page.locator("[data-unsent] li")).to_have_count(1)
        page.goto(self.at("/stand/99999/"))
        expect(page.get_by_role("heading", name="There is no connection")).to_be_visible()
        page.goto(self.at("/stand/"))
        page.context.set_offline(False)
        expect(page.get_by_text("It is sent.")).to_be_visible(timeout=30_000)
        self.assertEqual(Take.objects.filter(task=task).count(), 1)
        # Who signs out leaves nothing behind.
        page.get_by_role("button", name="Sign out").click()
        page.wait_for_url("**/sign-in/**")
        page.evaluate(WIPED)
        self.troubles = [t for t in self.troubles if "net::ERR_" not in t]
