"""Notation from elsewhere: ABC, MIDI and ChordPro, and what is not notation at all."""

from __future__ import annotations

import io

import mido
from django.test import SimpleTestCase

from didactor.core.errors import ScoreError
from didactor.core.instruments import find_instrument
from didactor.core.score.expected import Expectation, expect
from didactor.core.score.model import Score
from didactor.core.score.read.abc import abc_to_musicxml
from didactor.core.score.read.abc.tune import tunes_in
from didactor.core.score.read.formats import to_musicxml
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.roadmap import played_order

HEAD = "X:1\nT:Lantern Hill\nC:Made up\nM:4/4\nL:1/8\nQ:1/4=96\nK:D\n"


def scores(data: bytes | str) -> list[Score]:
    return [read(prepare(xml)) for xml, _ in to_musicxml(data.encode() if isinstance(data, str) else data)]


def abc(body: str, head: str = HEAD) -> Expectation:
    return expect(scores(head + body)[0].parts[0])


def sounds(expectation: Expectation) -> list[tuple[str, float, float]]:
    return [(n.written_pitch, n.onset_quarters, n.duration_quarters) for n in expectation.notes if not n.grace]


class AbcTests(SimpleTestCase):
    def test_pitches_lengths_and_the_key(self):
        self.assertEqual(
            sounds(abc("D2 F>A d/e/ ^c,, z | f4-f4 |]"))[:6],
            [("D4", 0, 1), ("F#4", 1, 0.75), ("A4", 1.75, 0.25), ("D5", 2, 0.25), ("E5", 2.25, 0.25), ("C#3", 2.5, 0.5)],
        )
        self.assertEqual(sounds(abc("f4-f4 | f8 |]"))[0], ("F#5", 0, 4))

    def test_signs_hold_to_the_end_of_the_bar(self):
        self.assertEqual([p for p, _, _ in sounds(abc("=c2 c2 C2 d2 | c4 =f4 |"))], ["C5", "C5", "C4", "D5", "C#5", "F5"])
        for key, third in (("Dm", "F5"), ("D mix", "F#5"), ("Ddor", "F5"), ("A exp _b", "F5"), ("none", "F5")):
            self.assertEqual(sounds(abc("f8 |", f"X:1\nM:4/4\nL:1/8\nK:{key}\n"))[0][0], third, key)

    def test_the_first_title_is_the_title(self):
        self.assertEqual(scores("X:1\nT:Lantern Hill\nT:The Lamp\nM:4/4\nL:1/4\nK:C\nc d e f |]\n")[0].title, "Lantern Hill")

    def test_a_slur_ends_with_the_last_note_inside_it(self):
        notes = abc("(c2 d2) e2 f2 | (c2 z2 d2) e2 |]").notes
        self.assertEqual([n.slurred_to_next for n in notes], [True, False, False, False, True, False, False])

    def test_far_too_much_is_refused(self):
        with self.assertRaisesMessage(ScoreError, "larger than 400 kB"):
            tunes_in("X:1\nK:C\n" + "z8|" * 200_000)
        with self.assertRaisesMessage(ScoreError, "40001 notes"):
            tunes_in("X:1\nK:C\n" + "c" * 40_001)
        self.assertEqual(len(tunes_in("X:1\nC:Baa\nK:C\n" + "c" * 40_000)), 1)

    def test_rests_of_whole_bars_last_as_long_as_their_bars(self):
        played = abc("c3 | Z2 | d3 |]", "X:1\nM:3/4\nL:1/4\nK:C\n")
        self.assertEqual([(n.bar, n.onset_quarters) for n in played.notes], [("1", 0), ("4", 9)])

    def test_upbeat_repeats_and_endings_are_unfolded(self):
        played = abc("A2 |: d4 f4 |1 a8 :|2 d8 |]")
        self.assertEqual(next((n.bar, n.pass_, n.written_pitch) for n in played.notes), ("0", 1, "A4"))
        self.assertEqual([n.written_pitch for n in played.notes], ["A4", "D5", "F#5", "A5", "D5", "F#5", "D5"])
        self.assertEqual(len(abc("d8 | f8 :: a8 :|").notes), 6)

    def test_tuplets_chords_graces_slurs_marks_and_words(self):
        data = HEAD + '(3def "G"[GBd]2 {c}.d2 (!p!uAB)c2 | !fermata!d8 |\nw: run-ning down the hill_ now\n'
        xml, problems = abc_to_musicxml(data)
        part = read(prepare(xml)).parts[0]
        self.assertEqual(problems, [])
        played = expect(part)
        self.assertEqual([round(n.duration_quarters, 3) for n in played.notes[:3]], [0.333] * 3)
        self.assertEqual([c.text for c in part.chords], ["G"])
        self.assertEqual(len([n for n in part.notes if n.grace]), 1)
        self.assertEqual({m for n in part.notes for m in n.articulations}, {"staccato", "fermata", "up-bow"})
        self.assertEqual([n.dynamics for n in part.notes][-1], "p")
        text = xml.decode()
        self.assertIn("<syllabic>begin</syllabic><text>run</text>", text)
        self.assertIn("up-bow", text)

    def test_voices_clefs_metres_and_tempo(self):
        score = scores(
            "X:1\nM:6/8\nL:1/8\nQ:3/8=60\nK:G\nV:1 name=High\nGAB c2d |\nV:2 clef=bass\nG,3 D,3 |\n"
            "V:1\n[M:3/4] e2 d2 B2 |\nV:2\n[M:3/4] G,6 |\n"
        )[0]
        self.assertEqual([p.name for p in score.parts], ["High", "Voice 2"])
        self.assertEqual([p.clef for p in score.parts], ["treble", "bass"])
        self.assertEqual([(b.beats, b.beat_type) for b in score.parts[0].bars], [(6, 8), (3, 4)])
        self.assertEqual(score.parts[0].bars[0].tempo_qpm, 90)

    def test_several_tunes_and_what_was_not_understood(self):
        found = to_musicxml((HEAD + "d8 |\n\n" + HEAD.replace("X:1", "X:2") + '!wobble! "Hm7x"e8 & f8 | ¤ d8 |\n').encode())
        self.assertEqual(len(found), 2)
        told = " ".join(p.text for p in found[1][1])
        for words in ("wobble", "second voice", "¤"):
            self.assertIn(words, told)

    def test_what_is_no_tune_is_told_in_words(self):
        for text, words in (("X:1\nT:Empty\nK:C\n", "not a single note"), ("X:1\nT:No key\n", "no key")):
            with self.assertRaisesMessage(ScoreError, words):
                abc_to_musicxml(text)

    def test_words_in_a_tune_are_no_notes(self):
        for block in ("%%begintext\nA bag of cabbage\n%%endtext\n", "%%text A bag of cabbage\n", "%%beginsvg\n<a b='c'/>\n%%endsvg\n"):
            with self.subTest(block=block):
                self.assertEqual(len(abc(f"{block}c4 d4 |]").notes), 2)
        with self.assertRaisesMessage(ScoreError, "not a single note"):
            abc("%%begintext\nA bag that nobody closes\nc4 d4 |]")

    def test_a_clef_with_an_eight_sounds_an_octave_away(self):
        for clef, sounding in (("treble", 74), ("treble-8", 62), ("treble+8", 86), ("treble-8 octave=1", 74)):
            with self.subTest(clef=clef):
                head = f"X:1\nT:t\nM:4/4\nL:1/4\nK:C clef={clef}\n"
                self.assertEqual(abc("d d d d |]", head).notes[0].sounding_midi, sounding)

    def test_decorations_of_both_kinds(self):
        [(_, problems)] = to_musicxml((HEAD + "!+!c2 !plus!d2 +trill+e2 !^!f2 |]").encode())
        self.assertEqual(problems, [])

    def test_a_book_with_a_tune_that_cannot_be_read_keeps_the_others(self):
        book = HEAD + "c8 |]\n\nX:2\nT:Only words\nK:C\n\nX:3\nT:Third\nL:1/4\nK:G\nGABc |]\n"
        pieces = to_musicxml(book.encode())
        self.assertEqual([read(prepare(xml)).title for xml, _ in pieces], ["Lantern Hill", "Third"])
        self.assertIn("“Only words” is left out", pieces[0][1][-1].text)
        with self.assertRaisesMessage(ScoreError, "not a single note"):
            to_musicxml(b"X:2\nT:Only words\nK:C\n")


class MidiTests(SimpleTestCase):
    def file(
        self, *messages: tuple[int, int, int], metre: tuple[int, int] = (3, 4), key: str = "Bb", channel: int = 0, ticks: int = 480
    ) -> bytes:
        """Notes as (onset, length, pitch) in ticks of 480 a quarter, a little unsteady."""
        midi = mido.MidiFile(ticks_per_beat=ticks)
        track = mido.MidiTrack()
        midi.tracks.append(track)
        track.append(mido.MetaMessage("track_name", name="Reed pipe", time=0))
        track.append(mido.MetaMessage("time_signature", numerator=metre[0], denominator=metre[1], time=0))
        track.append(mido.MetaMessage("key_signature", key=key, time=0))
        track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(72), time=0))
        events = sorted([(on, "note_on", p) for on, _, p in messages] + [(on + length, "note_off", p) for on, length, p in messages])
        at = 0
        for time, kind, pitch in events:
            track.append(mido.Message(kind, channel=channel, note=pitch, velocity=70 if kind == "note_on" else 0, time=time - at))
            at = time
        data = io.BytesIO()
        midi.save(file=data)
        return data.getvalue()

    def test_notes_go_to_the_grid_and_are_spelled_in_the_key(self):
        part = scores(self.file((3, 430, 70), (476, 220, 72), (725, 200, 74), (962, 400, 75), (1440, 1400, 77)))[0].parts[0]
        self.assertEqual((part.name, part.bars[0].beats, part.bars[0].fifths, part.bars[0].tempo_qpm), ("Reed pipe", 3, -2, 72))
        self.assertEqual(sounds(expect(part)), [("Bb4", 0, 1), ("C5", 1, 0.5), ("D5", 1.5, 0.5), ("Eb5", 2, 1), ("F5", 3, 3)])

    def test_triplets_rests_chords_and_ties_over_the_bar_line(self):
        part = scores(self.file((0, 155, 60), (160, 155, 62), (320, 155, 64), (960, 950, 60), (960, 950, 64), key="C"))[0].parts[0]
        found = [(p, round(o, 3), round(d, 3)) for p, o, d in sounds(expect(part))]
        self.assertEqual(found, [("C4", 0, 0.333), ("D4", 0.333, 0.333), ("E4", 0.667, 0.333), ("C4", 2, 2), ("E4", 2, 2)])

    def test_a_written_file_keeps_its_quintuplets_and_short_notes(self):
        # Five, eight, six and seven to the quarter, a little off where the ticks do not divide.
        for ticks in (480, 96, 1024):
            onsets = [round(ticks * (quarter + k / d)) for quarter, d in enumerate((5, 8, 6, 7)) for k in range(d)]
            lengths = [b - a for a, b in zip(onsets, [*onsets[1:], 4 * ticks], strict=True)]
            notes = [(on, length, 60 + i % 7) for i, (on, length) in enumerate(zip(onsets, lengths, strict=True))]
            part = scores(self.file(*notes, metre=(4, 4), key="C", ticks=ticks))[0].parts[0]
            due = [(round(q + k / d, 3), round(1 / d, 3)) for q, d in enumerate((5, 8, 6, 7)) for k in range(d)]
            if ticks == 96:  # a seventh of 96 ticks lies as near to a sixteenth's grid: nobody can tell
                due, part_sounds = due[:19], sounds(expect(part))[:19]
            else:
                part_sounds = sounds(expect(part))
            self.assertEqual([(round(o, 3), round(d, 3)) for _, o, d in part_sounds], due, ticks)

    def test_a_played_file_is_not_taken_for_a_written_one(self):
        # A player's sixteenths, some by chance where quintuplets would be.
        notes = [(11, 90, 60), (96, 100, 62), (250, 90, 64), (371, 90, 65), (497, 400, 67)]
        part = scores(self.file(*notes, metre=(4, 4), key="C"))[0].parts[0]
        self.assertEqual([(o, d) for _, o, d in sounds(expect(part))], [(0, 0.25), (0.25, 0.25), (0.5, 0.25), (0.75, 0.25), (1, 0.75)])

    def test_the_clef_goes_with_the_middle_of_the_notes(self):
        for pitches, clef in (((45, 52, 56), "bass"), ((45, 57, 60), "treble"), ((38, 43, 72), "bass")):
            part = scores(self.file(*((480 * k, 470, p) for k, p in enumerate(pitches)), key="C"))[0].parts[0]
            self.assertEqual(part.clef, clef, pitches)

    def test_drums_become_strokes_on_one_line(self):
        notes = [(0, 60, 36), (0, 60, 42), (240, 60, 42), (480, 60, 38), (720, 60, 42), (1440, 60, 36)]
        [(xml, problems)] = to_musicxml(self.file(*notes, metre=(4, 4), channel=9))
        part = read(prepare(xml)).parts[0]
        self.assertEqual([(n.onset_quarters, n.unpitched) for n in part.notes], [(0, True), (0.5, True), (1, True), (1.5, True), (3, True)])
        self.assertIn("which drum is not told", problems[0].text)
        self.assertFalse(find_instrument(part.instrument).pitched)

    def test_damage_and_emptiness_are_told(self):
        with self.assertRaisesMessage(ScoreError, "damaged"):
            to_musicxml(b"MThd\x00\x00\x00\x06broken")
        with self.assertRaisesMessage(ScoreError, "not a single note"):
            to_musicxml(self.file())


class ChordProTests(SimpleTestCase):
    SONG = (
        "{title: Ferry bell}\n{time: 3/4}\n{key: G}\n{tempo: 88}\n[G]Over the [C/E]sound and [Gm9]home [H2]now\n"
        "{sog}\n| D7 . . | G C |\n{eog}\n{x_stage: fog}"
    )

    def test_chords_bars_words_and_strokes(self):
        [(xml, problems)] = to_musicxml(self.SONG.encode())
        part = read(prepare(xml)).parts[0]
        self.assertEqual([c.text for c in part.chords], ["G", "C/E", "Gm9", "D7", "G", "C"])
        self.assertEqual((len(part.bars), len(part.notes), part.bars[0].beats), (6, 18, 3))
        self.assertIn("<text>Over</text>", xml.decode())
        told = " ".join(p.text for p in problems)
        self.assertIn("“H2” was not understood: its bar is there", told)
        self.assertNotIn("Gm9", told)
        self.assertIn("x_stage", told)

    def chart(self, text: str) -> tuple[list[str], list[tuple[int, int]], list[str]]:
        """Chords in performed order by bar, metres, and what was told."""
        [(xml, problems)] = to_musicxml(text.encode())
        part = read(prepare(xml)).parts[0]
        by_bar = {bar.index: " ".join(c.text for c in part.chords if c.bar_index == bar.index) for bar in part.bars}
        played = [by_bar[bar.index] for bar, _ in played_order(part, part.bars)]
        return played, [(bar.beats, bar.beat_type) for bar in part.bars], [p.text for p in problems]

    def test_grids_with_repeats_labels_and_bars_again(self):
        grid = "{t: Grid}\n{sog}\nA |: G . C . | % | . . . . :| twice\nCoda || D7 / | G |.\n{eog}"
        played, _, told = self.chart(grid)
        self.assertEqual(played, ["G C", "G C", "C"] * 2 + ["D7", "G"])
        self.assertEqual(told, [])

    def test_a_chorus_is_recalled_and_the_metre_may_change(self):
        song = "{t: Song}\n{soc}\n[G]Over [C]sound\n{eoc}\n{time: 3/4}\n[D]slow [Em]ly\n{chorus}\n{meta: tempo 72}\n[G]end"
        played, metres, told = self.chart(song)
        self.assertEqual(played, ["G", "C", "D", "Em", "G", "C", "G"])
        self.assertEqual(metres, [(4, 4)] * 2 + [(3, 4)] * 2 + [(4, 4)] * 2 + [(3, 4)])
        self.assertEqual(told, [])
        self.assertEqual(self.chart("{t: Song}\n{chorus}\n[G]alone")[0], ["G"])

    def test_under_a_capo_the_shapes_sound_higher(self):
        for capo, sounding in (("2", (9, 1, 4)), ("0", (7, 11, 2)), ("15", (7, 11, 2)), ("²", (7, 11, 2))):
            [(xml, _)] = to_musicxml(f"{{t: Song}}\n{{capo: {capo}}}\n[G]Over the sound".encode())
            part = read(prepare(xml)).parts[0]
            self.assertEqual([(c.text, c.pitch_classes) for c in part.chords], [("G", sounding)], capo)

    def test_several_songs_and_what_is_in_another_notation(self):
        text = "{t: First}\n[G]Over the sound\n{new_song}\n{t: Second}\n{sot}\ne|--3--[G]--\n{eot}\n[C]home\n"
        first, second = to_musicxml(text.encode())
        self.assertEqual([read(prepare(xml)).title for xml, _ in (first, second)], ["First", "Second"])
        self.assertEqual([c.text for c in read(prepare(second[0])).parts[0].chords], ["C"])
        self.assertIn("“tab”", second[1][0].text)

    def test_a_tune_inside_a_song_is_a_piece_of_its_own(self):
        song = "{t: Ferry bell}\n{time: 3/4}\n{key: D}\n[D]Over\n{start_of_abc}\nd2 f2 a2 |\n{end_of_abc}\n[A7]home"
        chart, tune = to_musicxml(song.encode())
        self.assertEqual([c.text for c in read(prepare(chart[0])).parts[0].chords], ["D", "A7"])
        self.assertEqual((chart[1], tune[1]), ([], []))
        part = read(prepare(tune[0])).parts[0]
        self.assertEqual([n.written_pitch for n in part.notes], ["D5", "F#5", "A5"])
        self.assertEqual((read(prepare(tune[0])).title, part.bars[0].beats), ("Ferry bell", 3))

    def test_a_tune_inside_a_song_keeps_its_own_title_metre_and_key(self):
        song = "{t: Ferry bell}\n{key: D}\n[D]Over\n{start_of_abc}\nX:1\nT:Bell alone\nM:2/4\nL:1/4\nK:F\nB A |\n{end_of_abc}\n"
        score = read(prepare(to_musicxml(song.encode())[1][0]))
        self.assertEqual((score.title, score.parts[0].bars[0].beats), ("Bell alone", 2))
        self.assertEqual([n.written_pitch for n in score.parts[0].notes], ["Bb4", "A4"])

    def test_a_song_of_a_tune_alone_is_that_tune_and_one_without_notes_is_told(self):
        [(xml, _)] = to_musicxml(b"{t: Bell}\n{start_of_abc}\nK:G\nf4 |\n")
        self.assertEqual([n.written_pitch for n in read(prepare(xml)).parts[0].notes], ["F#5"])
        [(_, told)] = to_musicxml(b"{t: Bell}\n[G]Over\n{start_of_abc}\nK:G\n{end_of_abc}\n")
        self.assertIn("left out", told[0].text)
        with self.assertRaisesMessage(ScoreError, "no chords"):
            to_musicxml(b"{t: Bell}\n{start_of_abc}\n{end_of_abc}\n")

    def test_words_alone_are_refused(self):
        for data in ("Nothing but words", "%PDF-1.7 \x00\x01", b"\x89PNG\r\n\x1a\n\x00\x00"):
            with self.assertRaisesMessage(ScoreError, "no notation"):
                scores(data)
