"""Takes over weeks: lines, places that come back, the ear; and silence below enough data."""

from __future__ import annotations

from collections import Counter
from datetime import date, timedelta

from django.test import SimpleTestCase
from lxml import etree

from didactor.core.comparing.over_weeks import TakeThen, clean_in_words, ear_over, same_places, tempo_lines
from didactor.core.formats.weeks import draw_categories, draw_minutes, draw_tempi

MONDAY = date(2026, 9, 7)


def take(week: int, tempo: float | None = 60.0, findings: int = 0, piece: str = "Tide", **fields: object) -> TakeThen:
    return TakeThen(
        key=week,
        day=MONDAY + timedelta(weeks=week),
        piece=piece,
        title=piece,
        unit="quarter",
        tempo=tempo,
        asked=60.0,
        findings=findings,
        **fields,
    )


def place(bar: str, category: str = "notes") -> tuple[str, int, str]:
    return (bar, int(bar), category)


class LineTests(SimpleTestCase):
    def test_the_fastest_clean_tempo_never_falls_and_begins_with_the_first_clean_take(self):
        [line] = tempo_lines([take(0, 66.0, 2), take(1, 60.0), take(2, 70.0, 1), take(3, 64.0), take(4, 62.0)])
        self.assertEqual(line.best, [None, 60.0, 60.0, 64.0, 64.0])

    def test_one_take_is_no_line_and_a_tempo_that_was_not_measured_is_no_point(self):
        self.assertEqual(tempo_lines([take(0), take(1, None), take(2, piece="Other")]), [])

    def test_what_was_played_last_is_first(self):
        lines = tempo_lines([take(0, piece="Old"), take(1, piece="Old"), take(2, piece="New"), take(3, piece="New")])
        self.assertEqual([line.piece for line in lines], ["New", "Old"])

    def test_clean_takes_are_compared_only_between_two_whole_stretches(self):
        takes = [take(k, findings=int(k < 6)) for k in range(10)]
        self.assertEqual(clean_in_words(takes), "Clean: 4 of the last 5 takes, 0 of the 5 before.")
        self.assertEqual(clean_in_words(takes[:9]), "")


class PlaceTests(SimpleTestCase):
    def test_the_same_kind_of_thing_in_the_same_bar_comes_back(self):
        takes = [
            take(0, places=[place("3"), place("3"), place("5")]),
            take(1, places=[place("3"), place("5", "flow")]),
            take(2, piece="Other"),
        ]
        [found] = same_places(takes)
        self.assertEqual((found.piece, found.bar, found.category, found.takes, found.of, found.last), ("Tide", "3", "notes", 2, 2, 1))

    def test_what_is_mended_in_the_newest_take_is_left_out(self):
        self.assertEqual(same_places([take(0, places=[place("3")]), take(1, places=[place("3")]), take(2)]), [])

    def test_an_ear_is_told_from_ten_places_on(self):
        heard = [place(str(k)) for k in range(10)]
        pins = [place("0"), place("4"), ("9", 9, "flow")]
        found = ear_over([take(0, places=heard, pins=pins, marked=True)])
        self.assertEqual((found.both, found.machine, found.student, found.takes), (2, 8, 1, 1))
        self.assertIn("2 were marked by the student too; 1 mark stands alone", found.says)
        self.assertIsNone(ear_over([take(0, places=heard[:9], marked=True)]))
        self.assertIsNone(ear_over([take(0, places=heard)]), "a take that nobody marked says nothing of an ear")

    def test_a_mark_one_bar_off_is_the_same_place_and_counts_once(self):
        heard = [place("4"), place("5"), *(place(str(k), "flow") for k in range(10, 18))]
        found = ear_over([take(0, places=heard, pins=[place("4")], marked=True)])
        self.assertEqual((found.both, found.machine), (1, 9))
        far = ear_over([take(0, places=heard, pins=[place("2")], marked=True)])
        self.assertEqual((far.both, far.student), (0, 1))


class DrawingTests(SimpleTestCase):
    def count(self, svg: str, css: str) -> int:
        return len(etree.fromstring(svg).xpath(f"//*[@class='{css}']"))

    def test_a_dot_for_each_take_full_where_it_was_clean(self):
        svg = draw_tempi(tempo_lines([take(0, 60.0, 1), take(1, 60.0), take(2, 64.0)]))
        self.assertEqual((self.count(svg, "clean"), self.count(svg, "with"), self.count(svg, "best")), (2, 1, 1))
        self.assertIn("64 clean", svg)
        self.assertIn("not yet clean", draw_tempi(tempo_lines([take(0, 60.0, 1), take(0, 60.0, 1)])))
        self.assertNotIn("style=", svg)

    def test_only_categories_that_were_heard_have_a_row(self):
        svg = draw_categories([take(0, categories=Counter(notes=3)), take(1)], {"notes": "Notes", "flow": "Flow"})
        self.assertEqual((self.count(svg, "heard"), self.count(svg, "name")), (1, 1))
        self.assertIn("1 of 2", svg)

    def test_a_title_is_text_and_never_markup(self):
        self.assertIn("&lt;b&gt;", draw_tempi(tempo_lines([take(0, piece="<b>"), take(1, piece="<b>")])))

    def test_a_week_without_minutes_is_an_empty_place(self):
        svg = draw_minutes([(MONDAY, 0.0), (MONDAY + timedelta(weeks=1), 24.4)])
        self.assertEqual(self.count(svg, "minutes"), 2)
        self.assertIn(">24<", svg)
        self.assertNotIn(">0<", svg)
