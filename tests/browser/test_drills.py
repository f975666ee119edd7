"""Drills in the browser: two notes hands free, something to find, names touched, a warm-up."""

from __future__ import annotations

from dataclasses import replace
from urllib.parse import quote

from playwright.sync_api import Page, expect

from didactor.assignments.models import Assignment
from didactor.core.practising.drills.drill import Drill
from didactor.core.units import beats_to_quarters_per_minute
from didactor.practice.drilling import drill_data, drills_of
from didactor.practice.models import Attempt
from tests.browser.base import DESK, PHONE, BrowserTestCase
from tests.browser.student import playing, student_script


class DrillTests(BrowserTestCase):
    def setUp(self) -> None:
        super().setUp()
        Assignment.objects.update(stage="at_tempo", tempo=160, count_off=2)
        self.task = self.scene.task
        self.task.refresh_from_db()

    def first(self, kind: str) -> Drill:
        return next(group.drills[0].drill for group in drills_of(self.task) if group.kind.slug == kind)

    def opened(self, drill: Drill, size: dict[str, int], plays: list[dict] | None = None, warm: str = "") -> Page:
        page = self.page(self.scene.ylva.student, size)
        if plays is not None:
            page.context.add_init_script(student_script({drill.of: plays}))
        page.goto(self.at(f"/practice/{self.task.pk}/drills/{drill.kind}/?of={quote(drill.of)}{warm}"))
        return page

    def tempo(self, drill: Drill) -> float:
        return drill_data(self.task, drill)["next"]["tempo"]

    def test_two_notes_go_after_go_with_a_table_of_the_changes(self):
        drill = self.first("two_notes")
        qpm = beats_to_quarters_per_minute(self.tempo(drill), self.task.assignment.beat_unit)
        good = playing(drill.music, "flute", qpm)
        wrong = playing(drill.music, "flute", qpm, {"kind": "wrong", "note": 3, "semitones": -2})
        page = self.opened(drill, DESK, [wrong, good])
        self.accessible(page)
        self.assertEqual(page.locator("svg.score:visible g.note.asked").count(), 2)
        page.get_by_role("button", name="Begin").click()
        expect(page.locator("[data-fault]")).to_contain_text("another note", timeout=40_000)
        expect(page.locator("[data-says]")).to_contain_text("1 of 2", timeout=40_000)
        expect(page.locator("[data-cells] tbody tr")).to_have_count(2)
        page.keyboard.press("PageDown")
        expect(page.get_by_role("button", name="Begin")).to_be_visible()
        self.assertEqual(set(Attempt.objects.filter(ended=True).values_list("drill__kind", flat=True)), {"two_notes"})

    def test_something_to_find_comes_one_after_the_other_with_nothing_counted_off(self):
        drill = self.first("find")
        prompt = drill.prompts[0]
        note = self.first("two_notes").music.notes[0]
        music = replace(drill.music, notes=(replace(note, sounding_midi=prompt.midi, duration_quarters=1.5),))
        page = self.opened(drill, PHONE, [playing(music, "flute", 60.0)])
        self.no_sideways_scrolling(page)
        expect(page.locator("[data-asked-name]")).to_have_text(prompt.name)
        page.get_by_role("button", name="Begin").click()
        expect(page.locator("[data-says]")).to_contain_text("1 of 1", timeout=30_000)
        expect(page.locator("[data-asked-name]")).not_to_have_text(prompt.name)

    def test_names_are_touched_while_the_score_goes_by(self):
        drill = self.first("touch_names")
        page = self.opened(drill, PHONE)
        self.accessible(page)
        self.no_sideways_scrolling(page)
        # The clock of what sounds: on a busy machine it runs behind any other.
        page.evaluate("() => { window.AudioContext = class extends AudioContext { constructor() { super(); window.sounding = this; } }; }")
        page.get_by_role("button", name="Begin").click()
        # Counted off; then the first name's beat.
        expect(page.locator("[data-beats]")).to_have_text("2", timeout=20_000)
        each = 60 / self.tempo(drill)
        page.evaluate(
            """([names, each]) => new Promise((done) => {
                let k = 0, from = null;
                const key = (name) => document.querySelector(`[data-name="${name}"]`);
                // In the page itself: asked from outside, a touch would come late.
                const look = () => {
                    if (from === null && !document.querySelector("[data-beats]").textContent) from = sounding.currentTime;
                    if (from !== null && sounding.currentTime >= from + k * each) {
                        key(names[k]).dispatchEvent(new PointerEvent("pointerdown", { bubbles: true }));
                        k += 1;
                    }
                    if (k < names.length) requestAnimationFrame(look); else done();
                };
                look();
            })""",
            [list(drill.touched), each],
        )
        expect(page.locator("[data-fault]")).to_contain_text("in time", timeout=20_000)
        kept = Attempt.objects.get()
        self.assertEqual([name for _, name, _, right in kept.changes if right], list(drill.touched))

    def test_a_warm_up_leads_from_one_to_the_next_and_back_to_the_stand(self):
        page = self.page(self.scene.ylva.student, PHONE)
        page.goto(self.at("/"))
        page.get_by_role("link", name="Warm up").click()
        self.accessible(page)
        page.get_by_role("link", name="Begin").click()
        page.get_by_role("link", name="Warm: to the stand").click()
        expect(page.get_by_role("heading", name="This week")).to_be_visible()
