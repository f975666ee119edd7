"""The study sheet as each kind of player gets it: fingerings and chords of their own, counting, words explained, the hand's moves."""

from __future__ import annotations

import tempfile
from datetime import timedelta

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Task
from didactor.assignments.services import assign
from didactor.assignments.studying import study_sheet
from didactor.library.models import Pin, PinKind
from didactor.library.notation import read_part
from didactor.library.services import add_piece, cut_passage
from didactor.people.services import add_student
from tests import scene as scenes

SONG = b"""X:1
T:Harbour lights
M:3/4
L:1/4
Q:1/4=96
K:G
"^dolce""G"!p!G A B | "D7"d2 ^c | "C"!f!e vc uB | "G"G2 z |
w: All the lights are low to-night, far a-way.
"G"G A B | "D7"d2 c | "Em"e' e e | "G"G3 |]
"""
#: What must be in the sheet of a player, besides the score.
PICTURES = {
    "trumpet": "Valves: ",
    "trombone": "aid finger",
    "recorder": "hole covered",
    "violin": "aid finger",
    "piano": "keyboard-picture",
    "guitar": "chord-picture",
    "clarinet": "register key thumb",
    "alto-saxophone": "octave key",
}


class StudySheetTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.teacher = scenes.teacher("Outer light", "hedda")
        with tempfile.TemporaryFile() as source:
            source.write(SONG)
            source.flush()
            piece = add_piece(teacher=cls.teacher, upload=source, filename="lights.abc")
        cls.passage = cut_passage(teacher=cls.teacher, revision=piece.current, part=1, bars="1-8")
        people = [
            add_student(studio=cls.teacher.studio, name=slug, instrument=slug, level="advanced") for slug in (*PICTURES, "oboe", "claps")
        ]
        fields = {"title": "Lights", "due_at": timezone.now() + timedelta(days=3), "tempo": 96.0, "band_percent": 5.0}
        cls.assignment = assign(teacher=cls.teacher, passage=cls.passage, enrolments=people, fields=fields)

    def task(self, instrument: str) -> Task:
        return self.assignment.tasks.get(enrolment__instrument=instrument)

    def sheet(self, instrument: str, *layers: str, naming: str = "letters"):
        return study_sheet(self.task(instrument), list(layers), naming)

    def test_fingerings_are_those_of_the_players_instrument(self):
        for instrument, sign in PICTURES.items():
            sheet = self.sheet(instrument, "fingering")
            drawn = sheet.drawings["desk"] + "".join(sheet.pictures)
            self.assertIn(sign, drawn, instrument)
        oboe = self.sheet("oboe", "fingering")
        self.assertFalse(oboe.pictures)
        self.assertFalse([sign for sign in PICTURES.values() if sign in oboe.drawings["desk"]])

    def test_a_pinned_fingering_stands_instead_of_the_usual_one(self):
        usual = self.sheet("trumpet", "fingering").drawings["desk"]
        part = read_part(self.task("trumpet").passage.revision_id, self.task("trumpet").passage.part)
        note = part.notes[0].id
        pin = Pin.objects.create(passage=self.passage, kind=PinKind.FINGERING, note_id=note, text="3!", instrument="trumpet")
        pinned = self.sheet("trumpet", "fingering").drawings["desk"]
        self.assertIn("3!", pinned)
        self.assertEqual(pinned.count("Valves: "), usual.count("Valves: ") - 1)
        self.assertNotIn("3!", self.sheet("violin", "fingering").drawings["desk"])
        pin.delete()

    def test_names_are_written_ones_in_every_naming(self):
        first = {"letters": "A", "german": "A", "fixed_do": "la", "movable_do": "do", "numbers": "1"}
        for naming, name in first.items():
            svg = self.sheet("trumpet", "names", naming=naming).drawings["desk"]  # a trumpet reads G as A
            self.assertIn(f">{name}</text>", svg, naming)
        self.teacher.studio.note_names = {"A": "Anchor"}
        self.teacher.studio.save()
        self.assertIn(">Anchor</text>", self.sheet("trumpet", "names", naming="own").drawings["desk"])

    def test_facts_say_what_a_teacher_would_point_out(self):
        facts = dict(self.sheet("violin").facts)
        self.assertIn("F sharp", facts["Key signature"])
        self.assertIn("1 note with a sign of its own", facts["Key signature"])
        self.assertIn("3/4", facts["Time signature"])
        self.assertIn("p", facts["Loud and soft"])
        self.assertIn("dolce", facts["Words"])
        self.assertIn("bow", facts["Bowing and articulation"])
        self.assertIn("bar 5 is bar 1", facts["Bars alike"].lower())
        self.assertIn("Bar ", facts["The hardest bar"])
        self.assertIn("leaves first position", facts["The hand"])

    def test_the_hand_of_a_pianist_moves_where_five_fingers_do_not_reach(self):
        self.assertIn("moves up", dict(self.sheet("piano").facts)["The hand"])
        self.assertIn("moves", self.sheet("piano", "moves").drawings["desk"])
        self.assertNotIn("The hand", dict(self.sheet("trumpet").facts))

    def test_layers_are_kept_in_their_order_and_unknown_ones_left_out(self):
        sheet = self.sheet("violin", "names", "nonsense", "key", naming="klingon")
        self.assertEqual((sheet.layers, sheet.naming), (("key", "names"), "letters"))
        self.assertEqual(set(sheet.drawings), {"desk", "phone"})

    def test_the_page_switches_layers_and_large_words(self):
        task = self.task("guitar")
        self.client.force_login(task.enrolment.student, backend="didactor.people.backends.PasswordBackend")
        url = reverse("study", args=[task.pk])
        self.assertNotContains(self.client.get(url), "large-words")
        page = self.client.get(url, {"shown": "1", "layer": ["large", "fingering"]})
        self.assertContains(page, "large-words")
        self.assertContains(page, "lights")
        stranger = self.task("oboe").enrolment.student
        self.client.force_login(stranger, backend="didactor.people.backends.PasswordBackend")
        self.assertEqual(self.client.get(url).status_code, 404)

    def test_a_student_without_pitches_gets_counting_but_no_key(self):
        facts = dict(self.sheet("claps", "counting").facts)
        self.assertIn("Time signature", facts)
        self.assertIn("aid counting", self.sheet("claps", "counting").drawings["desk"])
