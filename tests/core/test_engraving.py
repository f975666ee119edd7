"""Engraving: every note read is drawn under our id, where a reader expects it; nothing of the engraver's own gets into the page."""

from __future__ import annotations

import itertools
import re

from django.test import SimpleTestCase

from didactor.core.errors import PassageError
from didactor.core.score.model import Part
from didactor.core.score.read.formats import to_musicxml
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.roadmap import bars_between
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.core.score.write.engraving import ACROSS, BESIDE, LAYOUTS, Engraving, engrave
from tests.core.test_musicxml import ATTRIBUTES, HEAD
from tests.core.test_musicxml import note as written
from tests.music import TUNE

PIANO = Line(text=TUNE, lower=" | ".join(["r:q", *["D3:h A3:h"] * 8]), name="Piano", fifths=2)
HORN = Line(text=TUNE, name="Horn in F", transposition=-7, fifths=2, tempo=92.0)


def drawn(*lines: Line, part: int = 1, bars: str | None = None, layout: str = "desk") -> tuple[Part, Engraving]:
    prepared = prepare(write_musicxml(list(lines)))
    chosen = read(prepared).parts[part - 1]
    return chosen, engrave(prepared, chosen, bars_between(chosen, bars), layout)


class EngravingTests(SimpleTestCase):
    def test_every_note_and_bar_is_drawn_under_its_id_in_every_layout(self):
        for layout in LAYOUTS:
            part, engraving = drawn(PIANO, layout=layout)
            self.assertEqual(set(engraving.geometry["notes"]), {n.id for n in part.notes}, layout)
            self.assertEqual(set(engraving.geometry["bars"]), {b.id for b in part.bars}, layout)
            for note in part.notes:
                self.assertIn(f'data-id="{note.id}"', engraving.svg)

    def test_time_runs_to_the_right_and_systems_lie_below_each_other(self):
        part, engraving = drawn(PIANO, layout="phone")
        places, systems = engraving.geometry["notes"], engraving.geometry["systems"]
        self.assertGreater(len(systems), 2)
        for above, below in itertools.pairwise(systems):
            self.assertLess(above["staff_bottom"], below["staff_top"])
        upper = [n for n in part.notes if n.staff == 1]
        for before, after in itertools.pairwise(upper):
            a, b = places[before.id], places[after.id]
            self.assertTrue(b["system"] > a["system"] or (b["system"] == a["system"] and b["x"] > a["x"]), (before.id, after.id))

    def test_higher_notes_stand_higher_and_notes_inside_their_bars(self):
        part, engraving = drawn(HORN)
        places, bars = engraving.geometry["notes"], engraving.geometry["bars"]
        by_pitch = sorted(part.notes, key=lambda n: n.sounding_midi)
        low, high = places[by_pitch[0].id], places[by_pitch[-1].id]
        if low["system"] == high["system"]:
            self.assertGreater(low["y"], high["y"])
        for note in part.notes:
            bar = bars[part.bars[note.bar_index].id]
            self.assertEqual(bar["system"], places[note.id]["system"])
            self.assertTrue(bar["x0"] <= places[note.id]["x"] <= bar["x1"])

    def test_some_bars_of_one_part_and_nothing_of_the_others(self):
        part, engraving = drawn(PIANO, HORN, part=2, bars="3-4")
        inside = {n.id for n in part.notes if part.bars[n.bar_index].number in ("3", "4")}
        self.assertEqual(set(engraving.geometry["notes"]), inside)
        self.assertEqual(len(engraving.geometry["bars"]), 2)
        with self.assertRaises(PassageError):
            engrave(prepare(write_musicxml([HORN])), part, [], "desk")

    def test_a_narrow_page_is_narrower_and_longer(self):
        sizes = {layout: drawn(PIANO, layout=layout)[1].geometry for layout in LAYOUTS}
        self.assertLess(sizes["phone"]["width"], sizes["beside"]["width"])
        self.assertLess(sizes["beside"]["width"], sizes["desk"]["width"])
        self.assertGreater(sizes["phone"]["height"], sizes["desk"]["height"])

    def test_two_layouts_share_a_page_without_sharing_glyphs(self):
        for pair in (ACROSS, BESIDE):
            names = [set(re.findall(r' id="([^"]+)"', drawn(HORN, layout=layout)[1].svg)) for layout in pair]
            self.assertFalse(names[0] & names[1])
            for layout, own in zip(pair, names, strict=True):
                used = set(re.findall(r'href="#([^"]+)"', drawn(HORN, layout=layout)[1].svg))
                self.assertLessEqual(used, own)

    def test_nothing_of_the_engravers_own_gets_into_the_page(self):
        _, engraving = drawn(HORN)
        for unwanted in ("<style", "style=", "<title", "<desc", "<script", "Horn in F"):
            self.assertNotIn(unwanted, engraving.svg)
        # The assignment says the tempo; a mark in the score would contradict it.
        self.assertNotIn("= 92", engraving.svg)

    def test_the_same_bars_are_drawn_the_same_way_again(self):
        first, again = (drawn(PIANO, bars="2-5", layout="phone")[1] for _ in range(2))
        self.assertEqual((first.svg, first.geometry), (again.svg, again.geometry))


class FromElsewhereTests(SimpleTestCase):
    """What notation programs write besides notes."""

    def drawn(self, *measures: str, more: str = "", attributes_in: int = 0, layout: str = "phone") -> tuple[Part, Engraving]:
        body = ""
        for index, measure in enumerate(measures):
            first = ATTRIBUTES.format(fifths=0, beats=4, type=4, more=more) if index == attributes_in else ""
            body += f'<measure number="{index + 1}">{first}{measure}</measure>'
        prepared = prepare((HEAD.format(name="Flute") + body + "</part></score-partwise>").encode())
        part = read(prepared).parts[0]
        return part, engrave(prepared, part, list(part.bars), layout)

    def all_drawn(self, part: Part, engraving: Engraving) -> None:
        self.assertEqual(set(engraving.geometry["notes"]), {n.id for n in part.notes})
        self.assertEqual(set(engraving.geometry["bars"]), {b.id for b in part.bars})

    def test_no_sign_of_the_engraver_s_own_at_breaks_and_repeats(self):
        back = '<barline location="right"><repeat direction="backward"/></barline>'
        _, engraving = self.drawn(
            written("C", 16), '<print new-system="yes"/>' + written("D", 16) + back, '<print new-page="yes"/>' + written("E", 16)
        )
        self.assertNotIn("placeholder", engraving.svg)

    def test_a_passage_longer_than_a_page_is_drawn_to_its_end(self):
        bars = ["".join(written("CDEFGAB"[(i + j) % 7], 1) for j in range(16)) for i in range(330)]
        part, engraving = self.drawn(*bars)
        self.all_drawn(part, engraving)
        self.assertGreater(engraving.svg.count('class="page"'), 0)
        geometry = engraving.geometry
        for above, below in itertools.pairwise(geometry["systems"]):
            self.assertLess(above["staff_bottom"], below["staff_top"])
        for place in geometry["notes"].values():
            system = geometry["systems"][place["system"]]
            self.assertTrue(system["top"] <= place["y"] <= system["bottom"])
        self.assertLessEqual(geometry["systems"][-1]["bottom"], geometry["height"])
        self.assertIn(f'viewBox="0 0 {geometry["width"]:g} {geometry["height"]:g}"', engraving.svg)
        own = set(re.findall(r' id="([^"]+)"', engraving.svg))
        self.assertLessEqual(set(re.findall(r'href="#([^"]+)"', engraving.svg)), own)

    def test_heads_that_are_hidden_tablature_and_very_long_notes_have_their_place(self):
        tab = "<staff-details><staff-lines>6</staff-lines></staff-details><clef><sign>TAB</sign><line>5</line></clef>"
        fret = "<notations><technical><string>4</string><fret>2</fret></technical></notations>"
        self.all_drawn(*self.drawn(written("E", 16, 3, after=fret), more=tab))
        self.all_drawn(
            *self.drawn(written("C", 8, after="<notehead>none</notehead>") + written("D", 8, after="<notehead>slash</notehead>"))
        )
        self.all_drawn(*self.drawn(written("C", 32, after="<type>breve</type>"), written("D", 64, after="<type>long</type>")))

    def test_words_beside_a_metronome_mark_stay_and_bars_keep_their_numbers(self):
        mark = (
            "<direction><direction-type><words>Gently</words></direction-type><direction-type><metronome><beat-unit>quarter</beat-unit>"
            "<per-minute>60</per-minute></metronome></direction-type></direction>"
        )
        hidden = "<print><measure-numbering>none</measure-numbering></print>"
        _, engraving = self.drawn(hidden + mark + written("C", 16), *[written("D", 1) * 16] * 6)
        self.assertIn("Gently", engraving.svg)
        self.assertNotIn("= 60", engraving.svg)
        self.assertGreater(len(engraving.geometry["systems"]), 1)
        self.assertRegex(engraving.svg, r'class="mNum')

    def test_attributes_that_come_late_and_a_step_back_too_far(self):
        part, engraving = self.drawn(written("C", 16), written("D", 4) * 4, attributes_in=1)
        self.all_drawn(part, engraving)
        self.assertEqual([n.duration_quarters for n in part.notes], [4.0, 1.0, 1.0, 1.0, 1.0])
        back = "<backup><duration>99</duration></backup>"
        part, engraving = self.drawn(written("C", 4) + back + written("E", 16, after="<voice>2</voice>"))
        self.all_drawn(part, engraving)
        self.assertEqual([(n.written_pitch, n.onset_quarters) for n in part.notes], [("C4", 0.0), ("E4", 0.0)])

    def test_strokes_stand_on_one_line_without_a_clef_and_a_drum_kit_on_its_staff(self):
        for text, chords in (("x:q@C x:e x:e x:q x:q | x:q@G7 x:q x:h", True), ("x:q x:q x:h | x:h x:h", False)):
            part, engraving = drawn(Line(text=text, fifths=0))
            self.all_drawn(part, engraving)
            system = engraving.geometry["systems"][0]
            self.assertEqual(system["staff_top"], system["staff_bottom"])
            self.assertEqual({place["y"] for place in engraving.geometry["notes"].values()}, {system["staff_top"]})
            clefs = re.findall(r'class="clef"[^>]*>(.{0,40})', engraving.svg)
            self.assertFalse([c for c in clefs if c.startswith("<use")])
            self.assertEqual("E101" in engraving.svg or "E100" in engraving.svg, chords)  # slashes
        kit = "".join(
            f"<note><unpitched><display-step>{step}</display-step><display-octave>{octave}</display-octave></unpitched>"
            f"<duration>8</duration></note>"
            for step, octave in (("F", 4), ("C", 5))
        )
        part, engraving = self.drawn(kit)
        self.all_drawn(part, engraving)
        self.assertLess(engraving.geometry["systems"][0]["staff_top"], engraving.geometry["systems"][0]["staff_bottom"])
        self.assertEqual(len({place["y"] for place in engraving.geometry["notes"].values()}), 2)

    def test_syllables_do_not_run_together(self):
        words = "the lamp-light burns so slow-ly now and through the stran-ded har-bour night"
        [(xml, _)] = to_musicxml(f"X:1\nT:Lamp\nM:4/4\nL:1/8\nK:G\nGABc dcBA|GGAA BBcc|]\nw: {words}\n".encode())
        prepared = prepare(xml)
        part = read(prepared).parts[0]
        for layout in set(LAYOUTS) - {"handheld"}:  # too narrow for words: songs are not drawn in it
            svg = engrave(prepared, part, list(part.bars), layout).svg
            syllable = r'data-class="syl".*?<text x="([\d.]+)" y="([\d.]+)".*?font-size="([1-9]\d*)px">([^<]+)<'
            found = re.findall(syllable, svg, re.S)
            self.assertEqual(len(found), 16, layout)
            for (x, y, size, text), (following, line, _, _) in itertools.pairwise(found):
                if y == line:
                    # 0.45 em a letter is what a serif face takes on average, and a space stays.
                    self.assertGreater(float(following) - float(x), 0.45 * float(size) * len(text), (layout, text))
