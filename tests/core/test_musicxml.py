"""MusicXML as notation programs write it: chords, voices, grace notes, endings, jumps, transposition, odd metres."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.errors import ScoreError
from didactor.core.score.expected import Expectation, expect, expectation_to_json
from didactor.core.score.model import Part
from didactor.core.score.read.musicxml import prepare, read

HEAD = (
    '<?xml version="1.0"?><score-partwise><part-list><score-part id="P1"><part-name>{name}</part-name></score-part></part-list>'
    '<part id="P1">'
)
ATTRIBUTES = (
    "<attributes><divisions>4</divisions><key><fifths>{fifths}</fifths></key>"
    "<time><beats>{beats}</beats><beat-type>{type}</beat-type></time>{more}</attributes>"
)


def note(step: str, duration: int, octave: int = 4, inside: str = "", before: str = "", after: str = "") -> str:
    pitch = f"<pitch><step>{step}</step>{inside}<octave>{octave}</octave></pitch>"
    return f"<note>{before}{pitch}<duration>{duration}</duration>{after}</note>"


def part(*measures: str, name: str = "Flute", fifths: int = 0, beats: int = 4, type_: int = 4, more: str = "") -> Part:
    body = ""
    for index, measure in enumerate(measures):
        first = ATTRIBUTES.format(fifths=fifths, beats=beats, type=type_, more=more) if index == 0 else ""
        body += f'<measure number="{index + 1}">{first}{measure}</measure>'
    return read(prepare((HEAD.format(name=name) + body + "</part></score-partwise>").encode())).parts[0]


def names(expectation: Expectation) -> list[str]:
    return [n.written_pitch for n in expectation.notes]


class ReadingTests(SimpleTestCase):
    def test_chords_and_second_voices_keep_their_onsets(self):
        chord = note("C", 8) + note("E", 8, before="<chord/>") + note("G", 8)
        other = "<backup><duration>16</duration></backup>" + note("C", 16, 3, after="<voice>2</voice>")
        notes = expect(part(chord + other)).notes
        self.assertEqual([(n.written_pitch, n.onset_quarters) for n in notes], [("C3", 0), ("C4", 0), ("E4", 0), ("G4", 2)])

    def test_a_unison_in_two_voices_is_one_note(self):
        other = "<backup><duration>16</duration></backup>" + note("C", 16, after="<voice>2</voice>")
        notes = expect(part(note("C", 8) + note("D", 8) + other)).notes
        self.assertEqual([(n.written_pitch, n.duration_quarters) for n in notes], [("C4", 4.0), ("D4", 2.0)])

    def test_grace_notes_take_no_time_and_come_first(self):
        grace = "<note><grace/><pitch><step>D</step><octave>4</octave></pitch></note>"
        notes = expect(part(grace + note("C", 16))).notes
        self.assertEqual([(n.written_pitch, n.grace, n.onset_quarters) for n in notes], [("D4", True, 0), ("C4", False, 0)])

    def test_alterations_and_the_octave_of_a_transposing_instrument(self):
        more = "<transpose><chromatic>-2</chromatic><octave-change>-1</octave-change></transpose>"
        [only] = expect(part(note("B", 16, inside="<alter>-1</alter>"), more=more)).notes
        self.assertEqual((only.written_pitch, only.sounding_midi), ("Bb4", 70 - 14))

    def test_first_and_second_endings(self):
        first = note("D", 16) + '<barline location="right"><ending number="1" type="stop"/><repeat direction="backward"/></barline>'
        first = '<barline location="left"><ending number="1" type="start"/></barline>' + first
        second = '<barline location="left"><ending number="2" type="start"/></barline>' + note("E", 16)
        second += '<barline location="right"><ending number="2" type="stop"/></barline>'
        self.assertEqual(names(expect(part(note("C", 16), first, second, note("F", 16)))), ["C4", "D4", "C4", "E4", "F4"])

    def test_da_capo_al_fine_is_played_once(self):
        fine = note("D", 16) + '<direction><sound fine="yes"/></direction>'
        end = note("E", 16) + '<direction><sound dacapo="yes"/></direction>'
        self.assertEqual(names(expect(part(note("C", 16), fine, end))), ["C4", "D4", "E4", "C4", "D4"])

    def test_a_closing_repeat_whose_beginning_is_outside_is_played_once(self):
        closing = note("E", 16) + '<barline location="right"><repeat direction="backward"/></barline>'
        whole = part(note("C", 16), note("D", 16), closing)
        self.assertEqual(names(expect(whole)), ["C4", "D4", "E4"] * 2)
        self.assertEqual(names(expect(whole, "2-3")), ["D4", "E4"])

    def test_the_beat_of_compound_metres_is_dotted(self):
        bars = expect(part(note("C", 12), beats=6, type_=8)).bars
        self.assertEqual((bars[0].beat_quarters, bars[0].length_quarters), (1.5, 3.0))
        self.assertEqual(expect(part(note("C", 10), beats=5, type_=8)).bars[0].beat_quarters, 0.5)

    def test_dynamics_and_articulations_are_kept(self):
        mark = "<direction><direction-type><dynamics><p/></dynamics></direction-type></direction>"
        staccato = "<notations><articulations><staccato/></articulations></notations>"
        notes = expect(part(note("C", 8) + mark + note("D", 8, after=staccato))).notes
        self.assertEqual([(n.dynamics, n.articulations) for n in notes], [(None, ()), ("p", ("staccato",))])

    def test_a_metronome_mark_gives_quarters_per_minute(self):
        mark = (
            "<direction><direction-type><metronome><beat-unit>quarter</beat-unit><beat-unit-dot/>"
            "<per-minute>60</per-minute></metronome></direction-type></direction>"
        )
        self.assertEqual(part(mark + note("C", 16)).bars[0].tempo_qpm, 90.0)

    def test_values_that_make_no_sense_are_refused_with_words(self):
        for broken in (note("C", -4), note("H", 4), "<attributes><time><beats>0</beats><beat-type>4</beat-type></time></attributes>"):
            with self.subTest(broken=broken), self.assertRaisesMessage(ScoreError, "make no sense"):
                part(broken)

    def test_ids_differ_even_for_equal_notes(self):
        bar = note("C", 4) + "<backup><duration>4</duration></backup>" + note("C", 4)
        ids = [n.id for n in part(bar).notes]
        self.assertEqual(len(set(ids)), 2)

    def test_expected_notes_as_json_name_the_pass(self):
        data = expectation_to_json(expect(part(note("C", 16))))
        self.assertEqual((data["notes"][0]["pass"], data["bars"][0]["number"]), (1, "1"))
