"""Listening back: what checks a row, the two questions, the ear beside the machine's, the last take's pins, two takes compared."""

from __future__ import annotations

from django.test import TestCase
from django.urls import reverse

from didactor.stand.beside import signed_pair
from didactor.takes.models import SelfReview, Take
from didactor.takes.services import TakeRefused, submit_take
from tests import scene as scenes

WRONG = {"kind": "wrong", "note": 12, "semitones": 2}


class ListeningBackTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(
            own_rows=["Breath before bar 5", "Ready after the rest"], own_row_figures={"Ready after the rest": "pulse"}
        )
        self.client.force_login(self.scene.ylva.student)

    def mark(self, take: Take, **said: object) -> None:
        self.client.post(reverse("stand:mark", args=[take.pk]), {"work_on": "the runs", **said})

    def page(self, take: Take):
        return self.client.get(reverse("stand:take", args=[take.pk]))

    def test_each_row_says_what_checks_it_or_that_only_an_ear_can(self):
        rows = {row.title: row.checked_by for row in self.page(scenes.recorded(self.scene)).context["checklist"]}
        self.assertEqual(rows["Breath before bar 5"], "")
        self.assertEqual(rows["Ready after the rest"], "steady beat")
        self.assertEqual((rows["Notes"], rows["Tone"]), ("right notes", ""))

    def test_the_two_questions_are_kept_and_nonsense_is_not(self):
        take = scenes.recorded(self.scene)
        self.mark(take, easy="partly", as_meant="²")
        own = SelfReview.objects.get(take=take)
        self.assertEqual((own.easy, own.as_meant), ("partly", ""))
        self.assertContains(self.page(take), 'name="easy" value="partly" checked')

    def test_the_two_ears_are_laid_beside_each_other_only_after_listening(self):
        take = scenes.recorded(self.scene, WRONG)
        self.assertIsNone(self.page(take).context["laid"])
        wrong = take.heard.findings[0]
        self.mark(take, **{"pin-bar": ["7"], "pin-category": ["notes"], "pin-text": ["slipped"], "verdict-tone": "mend"})
        laid = dict(self.page(take).context["laid"].groups)
        self.assertEqual([p.own.title for p in laid["Only an ear can know"]], ["Tone"])
        self.assertEqual([p.own.bar for p in laid["Too hard on yourself"]], ["7"])
        self.assertIn(wrong.text, [p.heard.text for p in laid["You did not mark"]])
        self.assertContains(self.page(take), "Too few places to say how good your ear was")

    def test_where_remarks_are_the_teachers_nothing_is_laid_beside(self):
        self.scene.assignment.students_see = "remarks"
        self.scene.assignment.save()
        take = scenes.recorded(self.scene, WRONG)
        self.mark(take)
        self.assertIsNone(self.page(take).context["laid"])

    def test_every_pin_is_answered_in_the_next_take(self):
        first = scenes.recorded(self.scene, WRONG)
        bar = first.heard.findings[0].bar
        self.mark(first, **{"pin-bar": [bar, "7"], "pin-category": ["notes", "tone"], "pin-text": ["", "thin"]})
        still = scenes.recorded(self.scene, WRONG, {"kind": "wrong", "note": 0, "semitones": 2})
        self.assertIsNone(self.page(still).context["answered_pins"])
        self.mark(still)
        answered = self.page(still).context["answered_pins"]
        self.assertEqual((answered.before, [p.state.value for p in answered.pins]), (first, ["still", "cannot_tell"]))
        self.assertContains(self.page(still), "data-before-sound")
        mended = scenes.recorded(self.scene)
        self.mark(mended)
        self.assertEqual([p.state.value for p in self.page(mended).context["answered_pins"].pins], ["mended", "cannot_tell"])

    def test_where_the_teacher_wants_it_a_take_is_handed_in_after_it_was_played_to_its_end(self):
        self.scene.assignment.to_the_end = True
        self.scene.assignment.save()
        take = scenes.recorded(self.scene)
        self.mark(take)
        self.assertContains(self.page(take), "once you have played it back to its end")
        with self.assertRaisesMessage(TakeRefused, "Play your take back to its end first"):
            submit_take(take=Take.objects.get(pk=take.pk))
        through = reverse("stand:through", args=[take.pk])
        self.assertEqual(self.client.post(through).status_code, 204)
        at = Take.objects.get(pk=take.pk).heard_through_at
        self.client.post(through)
        self.assertEqual(Take.objects.get(pk=take.pk).heard_through_at, at)
        submit_take(take=Take.objects.get(pk=take.pk))


class TwoTakesTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        self.client.force_login(self.scene.ylva.student)
        self.first, self.second = scenes.recorded(self.scene), scenes.recorded(self.scene, WRONG)
        self.beside = reverse("stand:beside", args=[self.scene.task.pk])
        self.pair = reverse("stand:pair", args=[self.scene.task.pk])

    def test_the_same_bar_is_there_in_both_and_the_louder_one_is_turned_down(self):
        Take.objects.filter(pk=self.first.pk).update(loudness_lufs=-20.0)
        Take.objects.filter(pk=self.second.pk).update(loudness_lufs=-26.0)
        page = self.client.get(self.beside)
        self.assertEqual((page.context["first"], page.context["second"]), (self.first, self.second))
        self.assertEqual([bar.number for bar in page.context["bars"]], [str(n) for n in range(9)])
        self.assertTrue(all(bar.first and bar.second for bar in page.context["bars"]))
        self.assertEqual([s["gain"] for s in page.context["sounds"]], [0.5012, 1.0])
        turned = self.client.get(self.beside, {"a": self.second.pk, "b": self.first.pk})
        self.assertEqual(turned.context["first"], self.second)

    def test_the_hearing_measures_how_loud_a_take_is(self):
        self.assertTrue(-60 < Take.objects.get(pk=self.first.pk).loudness_lufs < 0)

    def test_one_take_is_no_pair_and_no_other_takes_get_in(self):
        self.second.delete()
        for url in (self.beside, self.pair):
            self.assertRedirects(self.client.get(url), reverse("task", args=[self.scene.task.pk]))

    def test_without_their_names_the_figures_answer_afterwards(self):
        page = self.client.get(self.pair)
        self.assertNotContains(page, f"/takes/{self.first.pk}/")
        self.assertEqual(self.client.get(page.context["sounds"][0]["sound"]).status_code, 200)
        signed = signed_pair(self.second, self.first)
        told = self.client.post(self.pair, {"pair": signed, "notes": "1", "steadier": "x"}).context["answers"]
        by_asks = {answer.asks: answer for answer in told}
        self.assertEqual((by_asks["Which had more right notes?"].right, by_asks["Which had more right notes?"].said), (True, "B"))
        self.assertIsNone(by_asks["Which was steadier?"].right)

    def test_a_pair_that_was_not_signed_here_is_none(self):
        for wrong in ("", "x", signed_pair(self.first, self.first)[:-3], "²"):
            self.assertRedirects(self.client.post(self.pair, {"pair": wrong}), reverse("task", args=[self.scene.task.pk]))
            self.assertEqual(self.client.get(reverse("stand:pair_sound", args=[self.scene.task.pk, 0]), {"pair": wrong}).status_code, 404)
        good = {"pair": signed_pair(self.first, self.second)}
        self.assertEqual(self.client.get(reverse("stand:pair_sound", args=[self.scene.task.pk, 2]), good).status_code, 404)

    def test_before_listening_no_bar_says_what_was_heard_and_no_figure_answers(self):
        self.scene.assignment.listen_first = True
        self.scene.assignment.save()
        page = self.client.get(self.beside)
        self.assertEqual({words for bar in page.context["bars"] for words in bar.words}, {""})
        answered = self.client.post(self.pair, {"pair": signed_pair(self.first, self.second), "notes": "1"})
        self.assertEqual(answered.context["answers"], [])


class FirstTakeTests(scenes.OwnFolders, TestCase):
    def test_where_the_first_take_is_kept_it_stays_and_the_gain_is_shown(self):
        scene = scenes.build(first_kept=True, listen_first=False)
        self.client.force_login(scene.ylva.student)
        first, second = scenes.recorded(scene, WRONG), scenes.recorded(scene)
        self.client.post(reverse("stand:delete", args=[first.pk]))
        self.assertTrue(Take.objects.filter(pk=first.pk).exists())
        page = self.client.get(reverse("stand:take", args=[second.pk]))
        self.assertContains(page, "in this one nothing was heard to mend")
        self.assertNotContains(self.client.get(reverse("stand:take", args=[first.pk])), "In the first take")
        submit_take(take=second)
        self.client.force_login(scene.teacher)
        desk = self.client.get(reverse("review:detail", args=[Take.objects.get(pk=second.pk).submission.pk]))
        self.assertContains(desk, "In the first take 1 thing was heard to mend")
        self.client.force_login(scene.ylva.student)
        scene.assignment.first_kept = False
        scene.assignment.save()
        self.client.post(reverse("stand:delete", args=[first.pk]))
        self.assertFalse(Take.objects.filter(pk=first.pk).exists())


class ThinkingTimeTests(scenes.OwnFolders, TestCase):
    def test_in_a_first_reading_the_pauses_of_all_takes_are_shown_to_both(self):
        scene = scenes.build(stage="first_reading", listen_first=False)
        pause = {"kind": "hesitation", "bar": "5", "beat": 0.0}
        scenes.recorded(scene, {**pause, "beats": 4.0})
        take = scenes.recorded(scene, {**pause, "beats": 2.0})
        self.client.force_login(scene.ylva.student)
        page = self.client.get(reverse("stand:take", args=[take.pk]))
        self.assertContains(page, "Thinking time, take by take: 3 s, 1 s; the longest now in bar 5.")
        self.assertContains(page, 'class="thinking"')
        submission = submit_take(take=Take.objects.get(pk=take.pk))
        self.client.force_login(scene.teacher)
        self.assertContains(self.client.get(reverse("review:detail", args=[submission.pk])), "Thinking time, take by take")

    def test_one_take_and_other_stages_show_none(self):
        scene = scenes.build(stage="at_tempo", listen_first=False)
        pause = {"kind": "hesitation", "bar": "5", "beat": 0.0, "beats": 3.0}
        scenes.recorded(scene, pause)
        take = scenes.recorded(scene, {**pause, "beats": 2.0})
        self.client.force_login(scene.ylva.student)
        self.assertNotContains(self.client.get(reverse("stand:take", args=[take.pk])), "Thinking time")
