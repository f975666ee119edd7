"""The whole line through the real interface: a passage is assigned, recorded, heard, marked and answered."""

from __future__ import annotations

import re
import tempfile
from typing import Any

from django.utils import timezone
from playwright.sync_api import expect

from didactor.assignments.models import Assignment
from didactor.assignments.services import answer_question, assign
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.library.desk import set_accompaniment
from didactor.library.jobs import render_model
from didactor.library.models import ModelSound
from didactor.library.services import add_piece, cut_passage
from didactor.people.services import add_student
from didactor.takes.models import Take, Upload
from tests import scene as scenes
from tests.browser.base import PHONE, BrowserTestCase
from tests.music import musicxml, tone, wav


class TeacherSetsWorkTests(BrowserTestCase):
    def test_a_scale_for_a_mixed_class_takes_ten_clicks(self):
        studio = self.scene.teacher.studio
        for name, instrument in (("Aksel", "alto-saxophone"), ("Dagny", "trumpet"), ("Gro", "tuba")):
            add_student(studio=studio, name=name, instrument=instrument, level="intermediate", group_name="Skerries")
        page = self.page(self.scene.teacher)
        clicks = 0

        def click(locator: Any) -> None:
            nonlocal clicks
            clicks += 1
            locator.click()

        click(page.get_by_role("link", name="Library"))
        click(page.get_by_role("link", name="Make an exercise"))
        clicks += 1
        page.get_by_label("Key note, concert pitch").select_option(label="E flat")
        expect(page.get_by_role("heading", name="E flat major scale")).to_be_visible()
        click(page.get_by_role("button", name="Assign it"))
        clicks += 1
        page.get_by_label("Whole group").select_option(label="Skerries")
        saxophone = page.get_by_role("row").filter(has_text="Alto saxophone")
        expect(saxophone).to_contain_text("no signs")
        expect(page.get_by_role("row").filter(has_text="Trumpet")).to_contain_text("1 flat")
        click(page.get_by_role("button", name="Assign", exact=True))
        expect(page.get_by_role("heading", name="Students")).to_be_visible()
        self.assertLessEqual(clicks, 10)
        page.get_by_role("link", name="Alto saxophone").click()
        expect(page.get_by_text("Aksel, Alto saxophone")).to_be_visible()
        self.assertGreater(page.locator(".wide g.note").count(), 10)

    def test_upload_drag_over_bars_and_assign(self):
        page = self.page(self.scene.teacher)
        page.get_by_role("link", name="Library").click()
        page.get_by_role("link", name="Add scores").click()
        page.get_by_label("Scores").set_input_files(self.file(b"a letter", "letter.musicxml"))
        page.get_by_role("button", name="Read them").click()
        expect(page.get_by_role("alert")).to_contain_text("no notation that can be read")
        page.get_by_label("Scores").set_input_files(self.file(musicxml("C5:q D5:q E5:h | F5:w | G5:w | E5:w", fifths=0), "new.musicxml"))
        page.get_by_label("Title").fill("Gale Warning")
        page.get_by_role("button", name="Read them").click()
        expect(page.get_by_role("heading", name="Gale Warning")).to_be_visible()
        page.wait_for_load_state()  # the scripts that follow the pointer are there
        bars = page.locator(".wide rect.bar")
        self.assertEqual(bars.count(), 4)
        bars.nth(1).hover()
        page.mouse.down()
        bars.nth(2).hover()
        page.mouse.up()
        expect(page.get_by_label("Bars")).to_have_value("2-3")
        page.get_by_role("button", name="Cut and assign").click()
        page.get_by_label("Ylva").check()
        page.get_by_role("spinbutton", name="Tempo").fill("88")
        self.accessible(page)
        page.get_by_role("button", name="Assign", exact=True).click()
        expect(page.get_by_role("status").first).to_contain_text("is assigned")
        assignment = Assignment.objects.latest("pk")
        self.assertEqual((assignment.passage.bars, assignment.tempo), ("2-3", 88.0))

    def test_the_passage_desk_with_mouse_and_keyboard(self):
        page = self.page(self.scene.teacher)
        page.goto(self.at(f"/library/passages/{self.scene.passage.pk}/"))
        page.locator(".wide g.note g.notehead").nth(2).click(force=True)
        page.get_by_label("Also right").fill("G9x")
        page.get_by_role("button", name="Keep", exact=True).click()
        expect(page.get_by_role("alert")).to_contain_text("is no pitch")
        page.get_by_label("Also right").fill("C6")
        page.get_by_label("Warning").fill("Not as in bar 1.")
        self.accessible(page)
        page.get_by_role("button", name="Keep", exact=True).click()
        expect(page.locator(".remarks")).to_contain_text("Not as in bar 1.")
        # Keys alone: to the score, a note further, and leave it to the student.
        page.locator("[data-sheet]").focus()
        page.keyboard.press("ArrowRight")
        expect(page.locator(".note-form h2")).to_contain_text("bar 0")
        page.get_by_label("May be left out").focus()
        page.keyboard.press("Space")
        page.keyboard.press("Enter")
        expect(page.locator("div.wide")).to_contain_text("ad lib.")
        # Cuts: proposed, one carried along by the arrow key, one dragged, kept.
        page.get_by_role("button", name="Two bars at a time").click()
        before = page.get_by_label("Segments").input_value()
        page.get_by_role("button", name="Cut after bar 2").press("ArrowRight")
        self.assertNotEqual(page.get_by_label("Segments").input_value(), before)
        page.get_by_role("button", name="Cut after bar 3").hover()
        page.mouse.down()
        page.get_by_role("button", name="Cut after bar 2").hover()
        page.mouse.up()
        expect(page.get_by_label("Segments")).to_have_value(before)
        page.get_by_role("button", name="Keep the cuts").click()
        expect(page.get_by_role("status").first).to_contain_text("The cuts are kept.")
        self.scene.passage.refresh_from_db()
        self.assertEqual(" ".join(self.scene.passage.segments), before)

    def test_pages_of_setting_work_are_accessible_and_fit_a_phone(self):
        self.scene.assignment.before_steps = ["clap", "name"]
        self.scene.assignment.save()
        page = self.page(self.scene.teacher, PHONE)
        for path in (
            f"/library/passages/{self.scene.passage.pk}/",
            "/library/write/melody/",
            "/library/recordings/add/",
            "/library/exercises/scale/",
            f"/assignments/{self.scene.assignment.pk}/",
            f"/assignments/{self.scene.assignment.pk}/change/",
            f"/assignments/parts/{self.scene.task.pk}/exception/",
            "/assignments/week/",
            "/students/note-names/",
        ):
            with self.subTest(path=path):
                page.goto(self.at(path))
                self.no_sideways_scrolling(page)
                self.accessible(page)
        student = self.page(self.scene.ylva.student, PHONE)
        stand = f"/stand/{self.scene.task.pk}"
        for path in (f"{stand}/", f"{stand}/study/?shown=1&layer=fingering&layer=moves", f"{stand}/cards/", "/assignments/calendar/"):
            with self.subTest(path=path):
                student.goto(self.at(path))
                self.no_sideways_scrolling(student)
                self.accessible(student)

    def test_what_is_typed_is_engraved_while_it_is_typed(self):
        page = self.page(self.scene.teacher)
        page.goto(self.at("/library/write/melody/"))
        page.get_by_label("Text").fill("X:1\nT:Gale\nM:3/4\nL:1/4\nK:F\nFAc | f3 |]")
        expect(page.get_by_role("heading", name="Gale")).to_be_visible()
        self.assertEqual(page.locator(".wide g.note").count(), 4)
        page.get_by_role("button", name="Keep it").click()
        expect(page.get_by_role("heading", name="Gale")).to_be_visible()
        expect(page.get_by_role("heading", name="Cuts for practising")).to_be_visible()


class StudentRecordsTests(BrowserTestCase):
    microphone = wav({"kind": "wrong", "bar": "1", "beat": 0.0, "semitones": 2}, seed=5)

    def test_record_in_the_browser_listen_mark_see_and_submit(self):
        page = self.page(self.scene.ylva.student)
        page.get_by_role("link", name="Test tune, whole").click()
        self.no_sideways_scrolling(page)
        self.accessible(page)
        page.get_by_role("link", name="Sit down and play").click()
        self.no_sideways_scrolling(page)
        self.accessible(page)
        page.get_by_role("button", name="Record at 92").click()
        expect(page.get_by_text("Counting off")).to_be_visible()
        # The count-off takes its time, and a busy machine adds to it.
        expect(page.get_by_text("Keep going, whatever happens")).to_be_visible(timeout=30_000)
        # The fake microphone plays its file once; the take is whole when the clock has passed its end.
        expect(page.locator("[data-clock]")).to_have_text(re.compile(r"0:2[4-9]"), timeout=60_000)
        page.get_by_role("button", name="Stop").click()
        expect(page.get_by_text("Hear a few seconds")).to_be_visible()
        page.get_by_role("button", name="Keep this take").click()
        page.wait_for_url("**/takes/*/")
        expect(page.get_by_text("stored")).to_be_visible()
        self.hear_all()
        expect(page.get_by_role("heading", name="Listen to the whole take, then mark")).to_be_visible()
        self.assertNotIn("F sharp is played", page.content())
        page.get_by_role("button", name="Play", exact=True).click()
        expect(page.get_by_role("button", name="Pause")).to_be_visible()
        expect(page.locator("[data-time].time")).not_to_have_text("0:00")
        page.get_by_label("Notes: to mend").check()
        page.locator(".wide rect.bar").nth(1).click(position={"x": 12, "y": 4})
        expect(page.get_by_label("Bar", exact=True).first).to_have_value("1")
        page.get_by_label("What you heard").first.fill("I think that was an F sharp")
        page.get_by_label("The one thing to work on next").fill("First bar")
        self.accessible(page)
        page.get_by_role("button", name="Done: show what was heard").click()
        heard = page.get_by_role("button", name="Bar 1, beat 1: E is written, F sharp is played.", exact=True).first
        expect(heard).to_be_visible()
        heard.click()
        expect(page.get_by_role("button", name="Pause")).to_be_visible()
        expect(page.locator(".wide .mark.wrong")).to_have_count(1)
        self.accessible(page)
        page.get_by_role("button", name="Submit this take").click()
        expect(page.get_by_role("status").first).to_contain_text("with your teacher")
        take = Take.objects.get()
        self.assertTrue(take.is_submitted)
        clicks = take.basis["targets"]["clicks_s"]
        self.assertEqual((len(clicks) >= 3, clicks == sorted(clicks)), (True, True))

    def test_a_sealed_duet_is_opened_and_recorded_over_its_accompaniment(self):
        teacher = self.scene.teacher
        lines = [
            Line(text="C5:w | D5:w | G4:q A4:q B4:h | D5:q C5:q B4:h", name="Flute", fifths=1),
            Line(text="C3:w | C3:w | G2:w | G2:w", name="Cello", fifths=1, clef="bass"),
        ]
        with tempfile.TemporaryFile() as source:
            source.write(write_musicxml(lines))
            source.flush()
            piece = add_piece(teacher=teacher, upload=source, filename="duet.musicxml", title="Duet")
        passage = cut_passage(teacher=teacher, revision=piece.current, part=1, bars="3-4")
        set_accompaniment(passage=passage, version=1, part=2, intro_bars=1)
        fields = {"title": "Duet", "due_at": timezone.now(), "tempo": 180.0, "band_percent": 5.0, "count_off": 2}
        fields |= {"preparation_s": 30, "before_steps": ["count", "clap"]}
        task = assign(teacher=teacher, passage=passage, enrolments=[self.scene.ylva], fields=fields).tasks.get()
        sound = ModelSound.objects.get(of_part=2)
        render_model(model_sound_id=sound.pk)
        page = self.page(self.scene.ylva.student)
        page.goto(self.at(f"/stand/{task.pk}/"))
        self.assertEqual(page.locator("svg.score").count(), 0)
        self.accessible(page)
        page.get_by_role("button", name="Start the clock").click()
        expect(page.get_by_role("timer")).to_contain_text("seconds to read it")
        self.assertGreater(page.locator(".wide g.note").count(), 4)
        page.get_by_role("button", name="Done", exact=True).click()
        expect(page.get_by_role("button", name="Done; take it back")).to_be_visible()
        page.get_by_role("link", name="Sit down and play").click()
        page.locator("[data-more] summary").click()
        page.get_by_label("The take is").select_option("clap")
        # Nothing is heard beforehand of what is to be read at sight.
        self.assertEqual(page.locator("[data-help]").evaluate_all("boxes => boxes.map((box) => box.dataset.help)"), ["beat"])
        expect(page.get_by_label("record with the accompaniment")).to_be_checked()
        page.get_by_role("button", name="Record at 180").click()
        expect(page.get_by_text("The accompaniment plays")).to_be_visible()
        expect(page.get_by_text("Keep going, whatever happens")).to_be_visible(timeout=30_000)
        expect(page.locator("[data-clock]")).to_have_text(re.compile(r"0:0[3-9]"), timeout=60_000)
        page.get_by_role("button", name="Stop").click()
        page.get_by_role("button", name="Keep this take").click()
        page.wait_for_url("**/takes/*/")
        basis = Take.objects.get().basis
        self.assertEqual((basis["step"], basis["backing"]["sound"]), ("clap", sound.pk))
        self.assertTrue(0 <= basis["backing"]["at_s"] < 3.0, basis["backing"])

    def test_an_upload_survives_a_closed_page(self):
        data = wav(seed=6)
        path = self.file(data, "mine.wav")
        page = self.page(self.scene.ylva.student)
        page.goto(self.at(f"/stand/{self.scene.task.pk}/"))
        # Lets the upload begin, then cuts the line: the page is closed in mid upload.
        page.route("**/takes/uploads/*/", lambda route: route.abort() if route.request.method == "PATCH" else route.continue_())
        page.get_by_label("Or send a recording").set_input_files(path)
        with page.expect_response(lambda response: response.status == 201):
            page.get_by_role("button", name="Send", exact=True).click()
        page.context.close()
        self.contexts.clear()
        self.troubles.clear()
        self.assertEqual((Take.objects.count(), Upload.objects.count()), (0, 1))
        page = self.page(self.scene.ylva.student)
        page.goto(self.at(f"/stand/{self.scene.task.pk}/"))
        page.get_by_label("Or send a recording").set_input_files(path)
        page.get_by_role("button", name="Send", exact=True).click()
        page.wait_for_url("**/takes/*/")
        self.assertEqual(Take.objects.get().original.read(), data)


class PhoneTests(BrowserTestCase):
    def test_the_student_s_pages_fit_a_phone(self):
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        page = self.page(self.scene.ylva.student, PHONE)
        for path in ("/stand/", f"/stand/{self.scene.task.pk}/", f"/stand/takes/{take.pk}/"):
            page.goto(self.at(path))
            self.no_sideways_scrolling(page)
            self.accessible(page)
        expect(page.locator(".phone svg.score")).to_be_visible()
        expect(page.locator(".wide svg.score")).to_be_hidden()


class TeacherAnswersTests(BrowserTestCase):
    def test_keep_change_drop_pin_and_send(self):
        from didactor.takes.services import OwnMark, review_own_take, submit_take

        faults = ({"kind": "wrong", "bar": "6", "beat": 0.0}, {"kind": "hesitation", "bar": "5", "beat": 0.0, "beats": 2.0})
        take = scenes.recorded(self.scene, *faults)
        review_own_take(take=take, marks=[OwnMark(category="flow", verdict="mend", bar="5", text="I stopped")], work_on="going on")
        submit_take(take=Take.objects.get(pk=take.pk))
        page = self.page(self.scene.teacher)
        expect(page.get_by_text("1 take to hear")).to_be_visible()
        page.get_by_role("link", name="Begin").click()
        expect(page.get_by_text("I stopped")).to_be_visible()
        marks = page.locator(".marks > li")
        expect(marks).to_have_count(2)
        # Before its scripts run a link leads to a page of its own.
        page.wait_for_load_state("load")
        marks.nth(0).get_by_role("link", name="Why?").click()
        expect(marks.nth(0).locator("svg.evidence")).to_be_visible()
        expect(marks.nth(0).get_by_text("How sure")).to_be_visible()
        marks.nth(0).get_by_role("button", name="Keep", exact=True).click()
        expect(marks.nth(0)).to_have_class("kept")
        page.keyboard.press("d")
        expect(marks.nth(1)).to_have_class("dropped")
        marks.nth(1).get_by_role("button", name="Put back").click()
        expect(marks.nth(1)).to_have_class("proposed")
        marks.nth(1).locator("summary").click()
        marks.nth(1).get_by_label("Words of this mark").fill("Breathe before bar 5, then do not stop.")
        marks.nth(1).get_by_role("button", name="Change and keep").click()
        expect(marks.nth(1)).to_contain_text("Breathe before bar 5")
        page.locator(".wide g.notehead").nth(8).click()
        expect(page.get_by_text("pinned to the note")).to_be_visible()
        page.get_by_label("Remark", exact=True).fill("Lovely sound here.")
        page.get_by_role("button", name="Add", exact=True).click()
        expect(marks).to_have_count(3)
        self.accessible(page)
        page.get_by_label("To Ylva").fill("Nearly there.")
        page.get_by_text("Once more", exact=True).click()
        expect(page.get_by_text("Draft kept")).to_be_visible()
        page.get_by_role("button", name="Send").click()
        expect(page.get_by_text("it is with Ylva")).to_be_visible()
        student = self.page(self.scene.ylva.student)
        student.get_by_role("link", name="Test tune, whole").click()
        student.get_by_role("link", name="Once more").click()
        for words in ("Nearly there.", "Breathe before bar 5", "Lovely sound here."):
            expect(student.get_by_text(words)).to_be_visible()


class ListeningTests(BrowserTestCase):
    def test_an_answer_in_words_gets_a_sound_back_that_plays_on_the_phone(self):
        Assignment.objects.update(step="listen", question="Which instrument leads?")
        answer_question(task=self.scene.task, text="The cello, I think.")
        desk = self.page(self.scene.teacher)
        desk.goto(self.at("/desk/"))
        desk.get_by_label("Words to Ylva").fill("Listen to what lies below it.")
        desk.get_by_label("Said or played back, if you like").set_input_files(self.file(b"no sound", "a.wav"))
        desk.get_by_role("button", name="Once more").click()
        expect(desk.get_by_role("alert")).to_contain_text("Nothing is decided yet")
        expect(desk.get_by_label("Words to Ylva")).to_have_value("Listen to what lies below it.")
        desk.get_by_label("Said or played back, if you like").set_input_files(self.file(tone(2.0), "a.wav"))
        desk.get_by_role("button", name="Once more").click()
        expect(desk.get_by_label("Words to Ylva")).to_have_count(0)
        # A refusal is an answer of 422, which the browser notes in its console.
        self.troubles = [t for t in self.troubles if "422" not in t]
        stand = self.page(self.scene.ylva.student, PHONE)
        stand.goto(self.at(f"/stand/{self.scene.task.pk}/"))
        expect(stand.get_by_text("Listen to what lies below it.")).to_be_visible()
        sound = stand.get_by_label("What your teacher says or plays to you")
        sound.evaluate("player => player.play()")
        heard = "player => new Promise(done => player.addEventListener('timeupdate', () => player.currentTime > 0 && done(true)))"
        self.assertTrue(sound.evaluate(heard))
