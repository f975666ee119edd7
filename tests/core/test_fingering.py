"""Fingerings, chord shapes, terms and moves of the hand, against what method books print."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.formats.lanes.fingering import chord_picture, keyboard_picture
from didactor.core.instruments import BY_SLUG
from didactor.core.score.chords import chord_pitch_classes
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.study.fingering import chord_shape, fingering_of
from didactor.core.score.study.hand_moves import hand_moves
from didactor.core.score.study.terms import signs_in, terms_in
from didactor.core.score.study.woodwinds import charts
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.core.units import name_to_midi

WORDS = "<direction><direction-type><words>{}</words></direction-type></direction>"


def fingered(slug: str, written: str) -> str | None:
    instrument, midi = BY_SLUG[slug], name_to_midi(written)
    found = fingering_of(instrument, midi, midi + instrument.transposition)
    return found and found.words


def shape(slug: str, chord: str) -> str:
    found = chord_shape(BY_SLUG[slug], chord, chord_pitch_classes(chord))
    return " ".join("x" if fret is None else str(fret) for fret in found.frets) if found else ""


class FingeringTests(SimpleTestCase):
    def test_valves_and_slide_as_in_method_books(self):
        trumpet = {"F#3": "1 2 3", "C4": "open", "D4": "1 3", "E4": "1 2", "F4": "1", "G#4": "2 3", "B4": "2", "D5": "1", "A5": "1 2"}
        self.assertEqual({n: fingered("trumpet", n) for n in trumpet}, trumpet)
        self.assertEqual({n: fingered("cornet", n) for n in trumpet}, trumpet)
        euphonium = {"Bb2": "open", "C3": "1 3", "F3": "open", "A3": "2", "Eb4": "1"}
        self.assertEqual(
            {n: fingered("euphonium", n) for n in ("Bb2", "C3", "F3", "A3")}, {k: euphonium[k] for k in ("Bb2", "C3", "F3", "A3")}
        )
        trombone = {"Bb2": "1", "A2": "2", "E2": "7", "C3": "6", "F3": "1", "E3": "2", "D4": "1"}
        self.assertEqual({n: fingered("trombone", n) for n in trombone}, trombone)
        self.assertIsNone(fingered("trumpet", "C3"))

    def test_recorder_holes(self):
        self.assertEqual(fingered("recorder", "G4"), "thumb 1 2 3")
        self.assertEqual(fingered("recorder", "F4"), "thumb 1 2 3 4 6 7")
        self.assertEqual(fingered("alto-recorder", "C5"), "thumb 1 2 3")
        self.assertEqual(fingered("tenor-recorder", "E5"), "half thumb 1 2 3 4 5")

    def test_keys_of_flutes_clarinets_and_saxophones(self):
        for slug, chart in {
            "alto-saxophone": {"B4": "1 | none", "C5": "2 | none", "C#5": "all open", "D4": "1 2 3 | 1 2 3", "F#5": "octave key 1 2 3 | 2"},
            "flute": {"F4": "thumb 1 2 3 | 1", "C5": "1 | none", "D5": "thumb 2 3 | 1 2 3", "F#5": "thumb 1 2 3 | 3", "G6": "1 2 3 | none"},
            "clarinet": {
                "F4": "thumb | none",
                "G4": "all open",
                "B4": "register key thumb 1 2 3 | 1 2 3",
                "C6": "register key thumb | none",
            },
        }.items():
            for name, hands in chart.items():
                self.assertEqual((fingered(slug, name) or "").split(" and the ")[0], hands, (slug, name))
        self.assertIn("low C key", fingered("tenor-saxophone", "C4"))
        self.assertIn("side B♭ key", fingered("baritone-saxophone", "Bb4"))
        self.assertIn("throat A key", fingered("bass-clarinet", "A4"))
        # A flute's E flat key is down nearly always, but not on D.
        self.assertNotIn("E♭", fingered("flute", "D4") + fingered("flute", "D5"))
        self.assertIsNone(fingered("flute", "C7"))
        self.assertIsNone(fingered("oboe", "C5"))

    def test_every_written_note_within_an_advanced_reach_has_its_keys(self):
        for kind, slugs in (("flute", ("flute",)), ("clarinet", ("clarinet", "bass-clarinet")), ("sax", ("alto-saxophone",))):
            chart = charts()[kind]
            numbers = sorted(chart)
            self.assertEqual(numbers, list(range(numbers[0], numbers[-1] + 1)), kind)
            for slug in slugs:
                low, high = (midi - BY_SLUG[slug].transposition for midi in BY_SLUG[slug].reach[-1])
                missing = [n for n in range(low, high + 1) if n not in chart]
                self.assertEqual(missing, [], slug)
            # Two notes next to each other are never fingered alike.
            for midi in numbers[1:]:
                self.assertNotEqual(chart[midi], chart[midi - 1], (kind, midi))

    def test_strings_in_first_position(self):
        violin = {"G3": "G 0", "A3": "G 1", "F4": "D 2↓", "F#4": "D 2", "D5": "A 3", "B5": "E 4", "C6": None}
        self.assertEqual({n: fingered("violin", n) for n in violin}, violin)
        cello = {"C2": "C 0", "F2": "C 4", "Bb2": "G 2", "B2": "G 3", "E3": "D 1"}
        self.assertEqual({n: fingered("cello", n) for n in cello}, cello)
        self.assertEqual([fingered("double-bass", n) for n in ("E2", "F#2", "G2", "C3")], ["E 0", "E 1", "E 2", "A 2"])
        self.assertEqual([fingered("guitar", n) for n in ("E2", "C3", "B3", "G4")], ["E 0", "A 3", "B 0", "e 3"])
        self.assertIsNone(fingered("voice", "C4"))

    def test_chord_shapes_are_those_beginners_learn(self):
        guitar = {"C": "x 3 2 0 1 0", "D": "x x 0 2 3 2", "E": "0 2 2 1 0 0", "F": "1 3 3 2 1 1", "G": "3 2 0 0 0 3", "A": "x 0 2 2 2 0"}
        guitar |= {"Am": "x 0 2 2 1 0", "Dm": "x x 0 2 3 1", "Em": "0 2 2 0 0 0", "E7": "0 2 0 1 0 0", "D7": "x x 0 2 1 2"}
        self.assertEqual({c: shape("guitar", c) for c in guitar}, guitar)
        ukulele = {"C": "0 0 0 3", "F": "2 0 1 0", "G": "0 2 3 2", "Am": "2 0 0 0", "A": "2 1 0 0", "Dm": "2 2 1 0", "G7": "0 2 1 2"}
        self.assertEqual({c: shape("ukulele", c) for c in ukulele}, ukulele)
        self.assertEqual(shape("piano", "C"), "")

    def test_every_common_chord_has_a_shape_with_just_its_notes(self):
        for slug in ("guitar", "ukulele", "banjo", "mandolin"):
            tuning = BY_SLUG[slug].fingering.split()[-4:] if slug != "guitar" else BY_SLUG[slug].fingering.split()[1:]
            for root in ["C", "D", "E", "F", "G", "A", "B", "Bb", "Eb", "F#"]:
                for kind in ("", "m", "7"):
                    classes = chord_pitch_classes(root + kind)
                    found = chord_shape(BY_SLUG[slug], root + kind, classes)
                    self.assertIsNotNone(found, (slug, root, kind))
                    sounding = {(name_to_midi(t) + f) % 12 for t, f in zip(tuning, found.frets, strict=True) if f is not None}
                    self.assertTrue(sounding <= set(classes) and set(classes) - sounding <= {classes[2]}, (slug, root, kind))

    def test_pictures_say_in_words_what_they_show(self):
        found = chord_shape(BY_SLUG["guitar"], "D", chord_pitch_classes("D"))
        assert found is not None
        self.assertIn("<title>D: E silent, A silent, D open, G fret 2, B fret 3, e fret 2</title>", chord_picture(found))
        strip = keyboard_picture({60, 64, 66}, {60: "C", 64: "E", 66: "F♯"})
        self.assertIn("Keys of this passage: C, E, F♯", strip)
        self.assertEqual((strip.count("white"), strip.count('"black'), strip.count("played")), (7, 5, 3))


class TermsAndMovesTests(SimpleTestCase):
    def part(self, text: str, words: dict[int, str] | None = None):
        xml = write_musicxml([Line(text=text, name="Piano", fifths=0)]).decode()
        for bar, term in (words or {}).items():
            at = xml.index("<note", xml.index(f'<measure number="{bar}"'))
            xml = xml[:at] + WORDS.format(term) + xml[at:]
        return read(prepare(xml.encode())).parts[0]

    def test_terms_are_explained_once_each_in_their_order(self):
        part = self.part("C4:w | D4:w | E4:w | F4:w", {1: "Allegro ma non troppo", 2: "poco rit.", 3: "a tempo, dolce", 4: "rit."})
        bars = {b.index: b for b in part.bars}
        terms = ["allegro", "ma non troppo", "poco", "ritardando", "a tempo", "dolce"]
        self.assertEqual([t for t, _ in terms_in(part, bars)], terms)
        self.assertEqual(dict(terms_in(part, bars))["ritardando"], "slowing down")
        self.assertEqual(terms_in(part, {0: part.bars[0]}), [("allegro", "lively, quick"), ("ma non troppo", "but not too much")])

    def test_signs_are_told_with_their_bars(self):
        part = self.part("C4:q. D4:q E4:q F4:q | C4:w")
        self.assertEqual(signs_in(list(part.notes), {b.index: b for b in part.bars}), [])

    def test_the_hand_moves_only_when_five_fingers_do_not_reach(self):
        part = self.part("C4:q E4:q G4:q E4:q | C5:q B4:q A4:q G4:q | C4:w")
        moves = hand_moves(part.notes, BY_SLUG["piano"])
        self.assertEqual([moves.get(n.id) for n in part.notes], [None] * 4 + ["moves up"] + [None] * 3 + ["moves down"])
        violin = self.part("E5:q B5:q D6:q B5:q")
        self.assertEqual(list(hand_moves(violin.notes, BY_SLUG["violin"]).values()), ["leaves first position", "back in first position"])
        self.assertEqual(hand_moves(part.notes, BY_SLUG["flute"]), {})
