"""Chord symbols: every kind both ways, the spellings of songbooks, alterations, basses, and what is not a chord."""

from __future__ import annotations

import itertools

from django.test import SimpleTestCase
from lxml import etree

from didactor.core.score.chords import KINDS, chord_pitch_classes, parse_chord, read_harmony, write_harmony
from didactor.core.score.read.musicxml import prepare, read
from tests.core.test_musicxml import ATTRIBUTES, HEAD, note

#: What each spelling sounds, in semitones above C, the root first.
SPELLINGS = {
    "C": (0, 4, 7),
    "CM Cmaj": (0, 4, 7),
    "Cm Cmin Cmi C-": (0, 3, 7),
    "C7": (0, 4, 7, 10),
    "Cmaj7 CM7 Cma7 CΔ CΔ7 C^7 C^ Cj7 C△": (0, 4, 7, 11),
    "Cm7 C-7 Cmin7 Cmi7": (0, 3, 7, 10),
    "Cdim Co C°": (0, 3, 6),
    "Cdim7 Co7 C°7": (0, 3, 6, 9),
    "Cm7b5 Cø Cø7 C-7b5 Cm7(b5)": (0, 3, 6, 10),
    "Caug C+": (0, 4, 8),
    "Caug7 C+7": (0, 4, 8, 10),
    "C7#5 C7+5": (0, 4, 8, 10),
    "Cmmaj7 Cm(maj7) CmM7 C-Δ7 C-^7 Cminmaj7": (0, 3, 7, 11),
    "C6": (0, 4, 7, 9),
    "Cm6 C-6": (0, 3, 7, 9),
    "C6/9 C69 C6add9": (0, 4, 7, 9, 2),
    "C9": (0, 4, 7, 10, 2),
    "Cmaj9 C^9 CM9": (0, 4, 7, 11, 2),
    "Cm9 C-9": (0, 3, 7, 10, 2),
    "C11": (0, 4, 7, 10, 2, 5),
    "C13": (0, 4, 7, 10, 2, 9),
    "C5": (0, 7),
    "Csus Csus4 C4": (0, 5, 7),
    "Csus2": (0, 2, 7),
    "C7sus C7sus4": (0, 5, 7, 10),
    "C9sus4": (0, 5, 7, 10, 2),
    "Cadd9 C2 Cadd2": (0, 4, 7, 2),
    "Cmadd9 Cm(add9)": (0, 3, 7, 2),
    "C7b9 C7(b9) C7-9": (0, 4, 7, 10, 1),
    "C7#9 C7+9": (0, 4, 7, 10, 3),
    "C7b5": (0, 4, 6, 10),
    "C7#11": (0, 4, 7, 10, 6),
    "C7b13": (0, 4, 7, 10, 8),
    "C7b9#9": (0, 4, 7, 10, 1, 3),
    "C7alt Calt": (0, 4, 6, 10, 1, 3),
    "Cno3 C(no3) Comit3": (0, 7),
    "C/E": (0, 4, 7),
    "C/Bb C/B♭": (0, 4, 7, 10),
    "Cm7/F": (0, 3, 7, 10, 5),
}


class SpellingTests(SimpleTestCase):
    def test_the_spellings_of_songbooks(self):
        for spelled, sounding in SPELLINGS.items():
            for text in spelled.split():
                with self.subTest(text=text):
                    found = chord_pitch_classes(text)
                    self.assertEqual((found[0], set(found)), (sounding[0], set(sounding)))

    def test_roots_with_signs(self):
        roots = {"Db": 1, "C#": 1, "F♯": 6, "B♭": 10, "Cb": 11, "Bbb": 9, "F##": 7}
        for text, root in roots.items():
            for quality, third in (("", 4), ("m7", 3), ("-7", 3)):
                self.assertEqual(chord_pitch_classes(text + quality)[:2], (root, (root + third) % 12), text + quality)

    def test_what_is_no_chord_is_refused_and_never_taken_for_another(self):
        for text in (
            "",
            "H",
            "h7",
            "C77",
            "Cm8",
            "Cblue",
            "C/H",
            "C7x",
            "Am7 D7",
            "N.C.",
            "Chorus",
            "Fine",
            "Da capo",
            "C#b",
            "Cadd",
            "C/",
        ):
            with self.subTest(text=text), self.assertRaises(ValueError):
                parse_chord(text)

    def test_our_own_spelling_means_the_same(self):
        qualities = [text for spelled in SPELLINGS for text in spelled.split()]
        for text in qualities:
            first = parse_chord(text)
            with self.subTest(text=text, ours=first.text):
                self.assertEqual(set(parse_chord(first.text).pitch_classes), set(first.pitch_classes))


class HarmonyTests(SimpleTestCase):
    def test_every_kind_and_alteration_goes_through_musicxml_and_back(self):
        kinds = [text for text, _ in KINDS.values() if text]
        symbols = [root + kind + bass for root, kind, bass in itertools.product(("C", "F#", "Bb"), kinds, ("", "/E"))]
        for symbol in [*symbols, "C7b9", "G7#9", "F7sus4", "Badd9", "A7#5", "Ebno3", "D7alt"]:
            with self.subTest(symbol=symbol):
                parent = etree.Element("measure")
                write_harmony(parent, symbol)
                back = read_harmony(parent[0], 0, 0.0, 0)
                self.assertEqual(back.pitch_classes, chord_pitch_classes(symbol))
                self.assertEqual(back.text, parse_chord(symbol).text)

    def harmony(self, kind: str, inside: str = "", step: str = "C") -> etree._Element:
        return etree.fromstring(f"<harmony><root><root-step>{step}</root-step></root><kind>{kind}</kind>{inside}</harmony>")

    def test_degrees_as_programs_write_them(self):
        def degree(value: int, alter: int, how: str) -> str:
            return (
                f"<degree><degree-value>{value}</degree-value><degree-alter>{alter}</degree-alter><degree-type>{how}</degree-type></degree>"
            )

        cases = (
            ("dominant", degree(9, 1, "add"), {0, 4, 7, 10, 3}),
            ("dominant", degree(5, -1, "alter"), {0, 4, 6, 10}),
            ("dominant-ninth", degree(9, -1, "alter"), {0, 4, 7, 10, 1}),
            ("major", degree(3, 0, "subtract") + degree(4, 0, "add"), {0, 5, 7}),
            ("minor-seventh", degree(7, 0, "subtract"), {0, 3, 7}),
            ("major", degree(77, 0, "add"), {0, 4, 7}),
        )
        for kind, inside, sounding in cases:
            with self.subTest(kind=kind, inside=inside):
                self.assertEqual(set(read_harmony(self.harmony(kind, inside), 0, 0.0, 0).pitch_classes), sounding)

    def test_a_bass_and_a_transposing_part(self):
        bass = "<bass><bass-step>B</bass-step><bass-alter>-1</bass-alter></bass>"
        symbol = read_harmony(self.harmony("major", bass), 3, 1.5, -2)
        self.assertEqual((symbol.text, symbol.pitch_classes), ("C/Bb", (10, 2, 5, 8)))

    def test_no_chord_is_none_and_an_unknown_kind_an_error(self):
        self.assertIsNone(read_harmony(self.harmony("none"), 0, 0.0, 0))
        self.assertIsNone(read_harmony(self.harmony("major", step="H"), 0, 0.0, 0))
        with self.assertRaises(ValueError):
            read_harmony(self.harmony("Tristan"), 0, 0.0, 0)

    def test_an_unknown_kind_in_a_score_is_said_and_not_judged(self):
        odd = '<harmony><root><root-step>A</root-step></root><kind text="mystic">other</kind></harmony>'
        known = "<harmony><root><root-step>G</root-step></root><kind>dominant</kind></harmony>"
        attributes = ATTRIBUTES.format(fifths=0, beats=4, type=4, more="")
        data = HEAD.format(name="Guitar") + f'<measure number="1">{attributes}{odd}{note("C", 8)}{known}{note("D", 8)}</measure>'
        score = read(prepare((data + "</part></score-partwise>").encode()))
        self.assertEqual([c.text for c in score.parts[0].chords], ["G7"])
        self.assertEqual([p.code for p in score.problems], ["score.chord"])
        self.assertIn("“Amystic”", score.problems[0].text)
