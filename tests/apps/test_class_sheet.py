"""The class sheet: everybody’s bars, what many share, and one remark made of it for all of them."""

from __future__ import annotations

from django.test import TestCase
from django.urls import reverse

from didactor.assignments.models import Task
from didactor.people.services import add_student
from didactor.progress.class_sheet import sheet_of, spans_of
from didactor.review.models import Mark, Review
from didactor.takes.models import Analysis, Submission, Take
from tests import scene as scenes
from tests.music import tone

BARS = ("0", "1", "2", "3", "4", "5", "6", "7", "8")
MOMENTS = [[bar, 1, beat, 1.0 + 2 * k + beat] for k, bar in enumerate(BARS) for beat in (0.0, 1.0)]


def late(bar: str = "6", beat: float = 1.0) -> list:
    return ["rhythm.placement", "rhythm", bar, beat, 180.0, 13.0, 13.5]


class ClassSheetTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        instruments = ["trumpet", "trumpet", "horn", "tuba", "flute", "flute", "clarinet", "oboe"]
        cls.players = [
            add_student(studio=cls.scene.teacher.studio, name=f"P{k}", instrument=slug, level="advanced", group_name="Band")
            for k, slug in enumerate(instruments)
        ]
        cls.result = scenes.recorded(cls.scene).latest_analysis.result
        cls.url = reverse("class_sheet", args=[cls.scene.assignment.pk])

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def handed_in(self, who: int, *places: list, unjudged: tuple[str, ...] = ()) -> Submission:
        task, _ = Task.objects.get_or_create(
            assignment=self.scene.assignment, enrolment=self.players[who], defaults={"passage": self.scene.passage}
        )
        take = scenes.recorded_by(task, data=tone(1.0 + 0.01 * Take.objects.count()))
        worst = {place[2]: "rhythm" for place in places} | dict.fromkeys(unjudged, "unjudged")
        strip = [[bar, worst.get(bar, ""), f"Bar {bar}."] for bar in BARS]
        summary = {"strip": strip, "places": list(places)}
        Analysis.objects.create(
            take=take, engine_version="x", parameters={}, result=self.result, summary=summary, moments=MOMENTS, seconds=1.0
        )
        Take.objects.filter(pk=take.pk).update(state="analysed", playback="x.mp4", loudness_lufs=-20.0 - who)
        Task.objects.filter(pk=task.pk).update(state="handed_in")
        return Submission.objects.create(take=take)

    def the_brass_is_late(self) -> list[Submission]:
        return [self.handed_in(k, late()) if k < 4 else self.handed_in(k) for k in range(8)]

    def test_an_empty_one_says_how_it_fills(self):
        self.assertContains(self.client.get(self.url), "fills as takes are handed in")
        self.assertNotContains(self.client.get(reverse("assignment", args=[self.scene.assignment.pk])), self.url)

    def test_what_many_share_is_said_and_everybody_has_a_row(self):
        self.the_brass_is_late()
        page = self.client.get(self.url)
        self.assertContains(page, "Bar 6, beat 2: late, 4 of 8 judged, mostly brass")
        self.assertEqual(page.content.decode().count('scope="row"'), 8 + 1)
        self.assertContains(self.client.get(reverse("assignment", args=[self.scene.assignment.pk])), self.url)
        reel = page.context["reel"]
        self.assertEqual([row["gain"] for row in reel if row["name"] == "P7"], [1.0], "the quietest is not turned down")
        self.assertTrue(all(row["gain"] < 1 for row in reel if row["name"] != "P7"))
        self.assertEqual(reel[0]["bars"][2], [4.88, 7.0], "from a little before its first note to the next bar’s")

    def test_a_bar_that_nobody_could_hear_counts_for_nobody(self):
        for k in range(4):
            self.handed_in(k, late())
        for k in range(4, 8):
            self.handed_in(k, unjudged=("6",))
        page = self.client.get(self.url)
        self.assertContains(page, "late, 4 of 4 judged")
        self.assertEqual(page.context["sheet"].feet[6][:2], (4, 4))

    def test_only_the_newest_that_was_handed_in_counts(self):
        for k in range(4):
            self.handed_in(k, late())
            self.handed_in(k)
        self.assertEqual(sheet_of(self.scene.assignment, BARS, 1.0).common, [])

    def test_queries_do_not_grow_with_the_class(self):
        self.handed_in(0)
        self.handed_in(1)
        self.client.get(self.url)  # a session is written down once a day
        with self.assertNumQueries(8):
            self.client.get(self.url)
        for k in range(2, 8):
            self.handed_in(k, late())
        with self.assertNumQueries(8):
            self.client.get(self.url)

    def test_one_remark_goes_into_the_answers_of_all_who_do_it_once(self):
        handed_in = self.the_brass_is_late()
        Submission.objects.filter(pk=handed_in[0].pk).update(answered_at="2026-01-01T00:00Z")
        for _ in range(2):
            answer = self.client.post(self.url, {"fault": "0", "text": "Bar 6: breathe before the turn."}, follow=True)
        self.assertContains(answer, "answered already")
        marks = Mark.objects.filter(text="Bar 6: breathe before the turn.")
        self.assertEqual({mark.review.submission for mark in marks}, set(handed_in[1:4]))
        self.assertEqual({(m.bar, m.beat, m.category, m.origin, m.standing) for m in marks}, {("6", 1.0, "rhythm", "teacher", "kept")})
        self.assertEqual(marks.count(), 3)
        self.assertFalse(Review.objects.filter(sent_at__isnull=False).exists(), "nothing is sent by it")

    def test_or_it_stands_on_the_passage_for_all(self):
        self.the_brass_is_late()
        self.client.post(self.url, {"fault": "0", "text": "Breathe before the turn.", "passage": "1"})
        self.assertEqual([(pin.bar, pin.text) for pin in self.scene.passage.pins.all()], [("6", "Breathe before the turn.")])
        self.assertFalse(Mark.objects.exists())

    def test_without_words_or_for_a_place_that_is_gone_nothing_is_done(self):
        self.the_brass_is_late()
        for data in ({"fault": "0", "text": "  "}, {"fault": "7", "text": "x"}, {"fault": "²", "text": "x"}, {"text": "x"}):
            for also in ({}, {"passage": "1"}):
                self.assertContains(self.client.post(self.url, {**data, **also}, follow=True), "message error")
        self.assertFalse(Mark.objects.exists())
        self.assertFalse(self.scene.passage.pins.exists())

    def test_a_repeated_bar_is_where_it_sounds_first_and_the_last_has_an_end(self):
        moments = [["1", 1, 0.0, 1.0], ["2", 1, 0.0, 2.0], ["1", 2, 0.0, 3.0], ["2", 2, 0.0, 4.0]]
        self.assertEqual(spans_of(Analysis(moments=moments)), {"1": (0.88, 2.0), "2": (1.88, 3.0)})
        self.assertEqual(spans_of(Analysis(moments=moments[:1])), {"1": (0.88, 4.0)})
        self.assertEqual(spans_of(None), {})
