"""One picture of each main view, from the demo data."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright

ROOT = Path(__file__).resolve().parents[1]
TARGET = ROOT / "docs" / "screenshots"
STATE = Path(os.environ.get("DIDACTOR_STATE", ROOT / "var"))
DESK, PHONE = {"width": 1280, "height": 800}, {"width": 390, "height": 844}
ARGUMENTS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"]


def sign_in(browser: Browser, base: str, who: str, size: dict[str, int]) -> Page:
    demo = (STATE / "demo.txt").read_text()
    context = browser.new_context(viewport=size, device_scale_factor=1)
    page = context.new_page()
    page.goto(f"{base}/sign-in/")
    if who == "teacher":
        name, password = re.search(r"name (\S+), password (\S+)", demo).groups()
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill(password)
        page.get_by_role("button", name="Open my desk").click()
    else:
        page.get_by_label("Code on your card").fill(re.search(rf"{who}\s+card (\S+)", demo)[1])
        page.get_by_role("button", name="Open my stand").click()
    page.get_by_role("button", name="Sign out").wait_for()
    return page


def shoot(page: Page, name: str, whole: bool = False) -> None:
    page.wait_for_load_state("networkidle")
    page.screenshot(path=TARGET / f"{name}.png", full_page=whole)
    print(f"  {name}.png")


def main(base: str) -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=os.environ.get("CHROMIUM", "/usr/bin/chromium"), args=ARGUMENTS)
        page = sign_in(browser, base, "teacher", DESK)
        shoot(page, "desk")
        page.get_by_role("link", name="Ylva Tarnholm").first.click()
        shoot(page, "desk-take")
        page.get_by_role("link", name="Desk").click()
        page.locator(".pile").filter(has_text="Two Lighthouses").get_by_role("listitem").first.get_by_role("link").first.click()
        page.locator("#marks a.why").first.click()
        page.locator("svg.evidence").wait_for()
        shoot(page, "desk-hands-why")
        page.goto(f"{base}/desk/")
        page.get_by_role("link", name="class sheet").click()
        shoot(page, "class-sheet")
        page.get_by_role("link", name="Students").click()
        page.get_by_role("link", name="Ylva Tarnholm").click()
        page.get_by_role("link", name="Passages").click()
        page.get_by_role("link", name="Over weeks").click()
        shoot(page, "over-weeks", whole=True)
        page.goto(f"{base}/desk/")
        page.get_by_role("link", name="Library").click()
        shoot(page, "library")
        page.get_by_role("link", name="Weather Report").click()
        page.get_by_label("Bars").fill("5-8")
        page.evaluate("window.scrollTo(0, 0)")
        shoot(page, "score")
        page.goto(f"{base}/assignments/")
        page.get_by_role("link", name="Skerry Scale, check-off").click()
        shoot(page, "assignment")
        page.goto(f"{base}/assignments/")
        page.get_by_role("link", name="B flat major").click()
        page.get_by_role("link", name="Again next week").click()
        page.get_by_label("Whole group").select_option(label="Grindhaven band")
        page.get_by_role("row").filter(has_text="Tuba").wait_for()
        shoot(page, "assign")
        page.goto(f"{base}/assignments/")
        page.get_by_role("link", name="Slack Water, second half").click()
        page.get_by_role("link", name="Passage desk").click()
        page.locator(".wide g.note g.notehead").nth(12).click(force=True)
        page.locator(".note-form").wait_for()
        shoot(page, "passage", whole=True)
        page = sign_in(browser, base, "Inge Vadholm", DESK)
        page.get_by_role("link", name="Slack Water, second half").click()
        page.get_by_role("link", name="listen back").last.click()
        shoot(page, "listen-back")
        page = sign_in(browser, base, "Ylva Tarnholm", DESK)
        page.get_by_role("link", name="Weather Report, whole").click()
        page.get_by_role("link", name="Take 1").click()
        shoot(page, "take-heard")
        page.go_back()
        page.get_by_role("link", name="Practise it").click()
        page.locator(".stone.at").first.wait_for()
        shoot(page, "crossing")
        page = sign_in(browser, base, "Paavo Lindskar", PHONE)
        page.get_by_role("link", name="Kelp Lines").click()
        page.get_by_role("link", name="Look first").click()
        for number in (0, 3, 6):
            page.locator(".phone g.note g.notehead").nth(number).click(force=True)
        shoot(page, "look-first-phone")
        page = sign_in(browser, base, "Wren Askeland", PHONE)
        page.get_by_role("link", name="Puffin Steps").click()
        page.get_by_role("link", name="Sit down and play").click()
        shoot(page, "not-reading-yet-phone")
        page = sign_in(browser, base, "Ossian Brannagh", PHONE)
        shoot(page, "stand-phone")
        page.get_by_role("link", name="Lamp Room").click()
        page.get_by_role("link", name="Play along and record").click()
        page.get_by_role("button", name="Play").click()
        page.wait_for_function("() => document.querySelector('.now').getBoundingClientRect().left > 180")
        shoot(page, "playing-phone")
        page.go_back()
        page.get_by_role("link", name="Study it first").click()
        page.get_by_label("Note names").check()
        page.locator("text.names").first.wait_for(state="attached")
        shoot(page, "study", whole=True)
        page.go_back()
        page.go_back()
        page.get_by_role("link", name="Once more").click()
        shoot(page, "answer-phone")
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1].rstrip("/"))
