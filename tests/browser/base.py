"""One headless Chromium with a fake microphone for all browser tests. Waits for states, never sleeps; a console error fails."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import Any

from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from playwright.sync_api import BrowserContext, Page, expect, sync_playwright

from didactor.people.models import Person
from didactor.people.services import make_card
from tests import scene as scenes
from tests.music import wav

os.environ.setdefault("DJANGO_ALLOW_ASYNC_UNSAFE", "true")
EXECUTABLE = os.environ.get("CHROMIUM", "/usr/bin/chromium")
ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--autoplay-policy=no-user-gesture-required",
    "--use-fake-device-for-media-stream",
    "--use-fake-ui-for-media-stream",
]
DESK, PHONE = {"width": 1280, "height": 800}, {"width": 390, "height": 844}
expect.set_options(timeout=15_000)


class BrowserTestCase(scenes.OwnFolders, StaticLiveServerTestCase):
    """``self.page(person)`` gives a signed-in page; ``microphone`` is what the fake microphone hears."""

    microphone: bytes = b""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls._sound = tempfile.NamedTemporaryFile(suffix=".wav")  # noqa: SIM115 - lives as long as the class
        cls._sound.write(cls.microphone or wav())
        cls._sound.flush()
        cls.playwright = sync_playwright().start()
        arguments = [*ARGUMENTS, f"--use-file-for-fake-audio-capture={cls._sound.name}%noloop"]
        cls.browser = cls.playwright.chromium.launch(executable_path=EXECUTABLE, args=arguments)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.browser.close()
        cls.playwright.stop()
        cls._sound.close()
        super().tearDownClass()

    def setUp(self) -> None:
        self.scene = scenes.build()
        self.troubles: list[str] = []
        self.contexts: list[BrowserContext] = []

    def tearDown(self) -> None:
        for context in self.contexts:
            context.close()
        self.assertEqual(self.troubles, [])

    def page(self, person: Person, size: dict[str, int] = DESK) -> Page:
        context = self.browser.new_context(viewport=size, permissions=["microphone"])
        self.contexts.append(context)
        page = context.new_page()
        page.on("console", lambda message: self.troubles.append(message.text) if message.type == "error" else None)
        page.on("pageerror", lambda error: self.troubles.append(str(error)))
        if person.is_teacher:
            page.goto(self.at("/sign-in/"))
            page.get_by_label("Name").fill(person.username)
            page.get_by_label("Password").fill(scenes.PASSWORD)
            page.get_by_role("button", name="Open my desk").click()
        else:
            page.goto(self.at(f"/in/{make_card(person)}/"))
            page.get_by_role("button", name="Yes, open my stand").click()
        expect(page.get_by_role("button", name="Sign out")).to_be_visible()
        return page

    def at(self, path: str) -> str:
        return f"{self.live_server_url}{path}"

    def file(self, data: bytes, name: str) -> str:
        folder = Path(tempfile.mkdtemp(dir=self._folder))
        path = folder / name
        path.write_bytes(data)
        return str(path)

    def hear_all(self) -> None:
        """What the worker would do: hear every take that waits."""
        from didactor.takes.jobs import analyse_take
        from didactor.takes.models import Take

        for take in Take.objects.filter(state="stored"):
            analyse_take(take_id=take.pk)

    def no_sideways_scrolling(self, page: Page) -> None:
        wide = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
        self.assertLessEqual(wide, 1, page.url)

    def accessible(self, page: Page) -> None:
        """No serious finding of axe on the page."""
        axe = Path(__file__).resolve().parents[2] / "node_modules" / "axe-core" / "axe.min.js"
        result: Any = page.evaluate(f"async () => {{ {axe.read_text()}; return await axe.run(); }}")
        found = [v for v in result["violations"] if v["impact"] in ("serious", "critical")]
        serious = [(v["id"], [n["html"][:120] for n in v["nodes"][:2]]) for v in found]
        self.assertEqual(serious, [], page.url)
