"""What goes wrong while a student records: a reload, a microphone that is taken away, a full disk, a closed page. Nothing is lost."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path
from unittest import mock

from playwright.sync_api import Dialog, Page, expect

from didactor.demo.left import leave
from didactor.demo.scenario import DemoTake
from didactor.takes import services
from didactor.takes.models import Take
from tests.browser.base import PHONE, BrowserTestCase


class RecordingTroubleTests(BrowserTestCase):
    def recording(self) -> Page:
        """A page that has recorded some seconds and goes on."""
        page = self.page(self.scene.ylva.student, PHONE)
        page.goto(self.at(f"/stand/{self.scene.task.pk}/play/"))
        page.get_by_role("button", name="Record at 92").click()
        expect(page.get_by_text("Keep going, whatever happens")).to_be_visible(timeout=30_000)
        expect(page.locator("[data-clock]")).to_have_text(re.compile(r"0:0[2-9]"), timeout=60_000)
        return page

    def test_a_reload_asks_first_and_staying_keeps_the_recording(self):
        page = self.recording()
        asked: list[str] = []

        def stay(dialog: Dialog) -> None:
            asked.append(dialog.type)
            dialog.dismiss()

        page.on("dialog", stay)
        page.close(run_before_unload=True)
        # The page stays, and records on.
        page.get_by_role("button", name="Stop").click()
        expect(page.get_by_text("Hear a few seconds")).to_be_visible()
        self.assertEqual(asked, ["beforeunload"])
        # A take that lies there unsent is not thrown away by a touch, either.
        page.close(run_before_unload=True)
        expect(page.get_by_role("button", name="Keep this take")).to_be_visible()
        self.assertEqual(asked, ["beforeunload"] * 2)

    def test_a_microphone_that_is_taken_away_leaves_what_was_recorded(self):
        page = self.recording()
        target = page.context.new_cdp_session(page).send("Target.getTargetInfo")["targetInfo"]
        denied = {"permission": {"name": "microphone"}, "setting": "denied", "origin": self.live_server_url}
        self.browser.new_browser_cdp_session().send("Browser.setPermission", {**denied, "browserContextId": target["browserContextId"]})
        expect(page.get_by_text("The microphone was taken away")).to_be_visible(timeout=20_000)
        page.get_by_role("button", name="Keep this take").click()
        page.wait_for_url("**/takes/*/")
        self.assertEqual(Take.objects.count(), 1)

    def test_what_the_demo_leaves_on_a_device_waits_once_and_is_sent_when_asked(self):
        self.enterContext(self.settings(STATE=Path(self.enterContext(tempfile.TemporaryDirectory()))))
        leave(self.scene.task, DemoTake())
        page = self.page(self.scene.ylva.student, PHONE)
        for said in ("It lies there now.", "It lies there already."):
            page.goto(self.at("/demo/left/"))
            expect(page.get_by_text(said)).to_be_visible(timeout=20_000)
        page.get_by_role("link", name="To the stand").click()
        expect(page.locator("[data-unsent] li")).to_have_count(1)
        self.assertFalse(Take.objects.exists())
        page.get_by_role("button", name="Send it").click()
        page.wait_for_url("**/takes/*/")
        self.assertEqual(Take.objects.get().task, self.scene.task)

    def test_a_full_disk_says_so_and_the_take_is_sent_when_there_is_room(self):
        page = self.recording()
        page.get_by_role("button", name="Stop").click()
        with mock.patch.object(services, "append_to_upload", side_effect=services.StorageFull):
            page.get_by_role("button", name="Keep this take").click()
            expect(page.get_by_text("no room left on the server")).to_be_visible(timeout=20_000)
            self.assertFalse(Take.objects.exists())
        # The browser notes the refusal in its console; that is all.
        self.assertTrue(all("507" in trouble for trouble in self.troubles), self.troubles)
        self.troubles.clear()
        page.get_by_role("button", name="Keep this take").click()
        page.wait_for_url("**/takes/*/")
        self.assertEqual(Take.objects.count(), 1)

    def test_a_page_that_dies_leaves_its_recording_on_the_device(self):
        page = self.recording()
        # The page goes without a word, as a killed tab does.
        page.close(run_before_unload=False)
        page = page.context.new_page()
        page.goto(self.at("/stand/"))
        left = page.get_by_text("On this device, not sent yet")
        expect(left).to_be_visible()
        expect(page.locator("[data-what]")).to_have_text(re.compile(r"Test tune, whole, 0:0[3-9]"))
        self.accessible(page)
        page.get_by_role("button", name="Send it").click()
        page.wait_for_url("**/takes/*/")
        take = Take.objects.get()
        self.assertGreaterEqual(len(take.basis["targets"]["clicks_s"]), 4)
        page.goto(self.at("/stand/"))
        expect(page.get_by_role("heading", name="This week")).to_be_visible()
        self.assertEqual(page.locator("[data-unsent] li").count(), 0)

    def test_what_is_left_can_be_thrown_away_but_not_by_one_touch(self):
        page = self.recording()
        page.close(run_before_unload=False)
        page = page.context.new_page()
        page.goto(self.at("/stand/"))
        page.get_by_role("button", name="Throw away").click()
        page.get_by_role("button", name="Throw it away for good").click()
        expect(page.get_by_text("On this device, not sent yet")).not_to_be_visible()
        page.reload()
        expect(page.get_by_role("heading", name="This week")).to_be_visible()
        self.assertEqual(page.locator("[data-unsent] li").count(), 0)
        self.assertFalse(Take.objects.exists())
