"""Setting the work: exercises, parts for every instrument, many files at once."""

from __future__ import annotations

import io
import tempfile
from datetime import timedelta
from unittest import mock

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.forms import kept_of
from didactor.assignments.models import Assignment
from didactor.assignments.services import assign, frozen_basis, parts_written
from didactor.library.arrangements import part_for, written_for
from didactor.library.exercise_forms import FORMS
from didactor.library.exercises import keep, melody_of, preview
from didactor.library.jobs import engrave_parts, read_file
from didactor.library.models import Import, Passage, Piece
from didactor.library.notation import expectation_of, read_part
from didactor.library.services import add_piece, cut_passage
from didactor.library.study import study_of
from didactor.people.services import add_student
from didactor.takes.jobs import analyse_take
from didactor.takes.services import receive_take
from tests import scene as scenes
from tests.music import musicxml, wav

ABC = b"X:1\nT:Low tide\nM:3/4\nL:1/4\nK:G\nGAB | d3 |]\n\nX:2\nT:High tide\nM:3/4\nL:1/4\nK:D\n!wobble!def | a3 |]\n"


class PartsTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        cls.teacher = cls.scene.teacher
        cls.scale = keep(teacher=cls.teacher, kind="scale", choices={"tonic": "Eb", "octaves": 2})

    def sounding(self, passage: Passage) -> list[int]:
        return [n.sounding_midi for n in expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars).notes]

    def student(self, instrument: str, level: str = "advanced"):
        return add_student(studio=self.teacher.studio, name=f"{instrument} {level}", instrument=instrument, level=level)

    def test_every_kind_of_exercise_opens_with_what_it_makes(self):
        self.client.force_login(self.teacher, backend="didactor.people.backends.PasswordBackend")
        for kind in FORMS:
            page = self.client.get(reverse("library:exercise", args=[kind]))
            self.assertNotContains(page, "trouble-box", msg_prefix=kind)
            if kind == "variation":
                self.assertContains(page, "Choose a melody")
            else:
                self.assertContains(page, 'class="score"', msg_prefix=kind)

    def test_a_rhythm_that_is_typed_goes_before_the_one_that_is_chosen(self):
        self.client.force_login(self.teacher, backend="didactor.people.backends.PasswordBackend")
        form = self.client.get(reverse("library:exercise", args=["scale"])).context["form"]
        data = {name: form[name].value() for name in form.fields if name != "halved"} | {"own_rhythm": " q.  e "}
        shown = self.client.get(reverse("library:exercise_fragment", args=["scale"]), data)
        self.assertContains(shown, "as q. e")
        told = self.client.get(reverse("library:exercise_fragment", args=["scale"]), data | {"own_rhythm": "long short"})
        self.assertContains(told, "is no rhythm")

    def test_what_is_made_next_has_a_number_of_its_own(self):
        self.client.force_login(self.teacher, backend="didactor.people.backends.PasswordBackend")
        url = reverse("library:exercise", args=["sight_reading"])
        kept = set()
        for _ in range(3):
            form = self.client.get(url).context["form"]
            data = {name: form[name].value() for name in form.fields}
            self.client.post(url, data)
            kept.add(data["seed"])
        self.assertEqual(kept, {1, 2, 3})
        self.assertEqual(Piece.objects.filter(made_from__kind="sight_reading").count(), 3)

    def test_an_exercise_that_was_put_away_comes_back_when_it_is_made_again(self):
        Piece.objects.filter(pk=self.scale.revision.piece_id).update(is_put_away=True)
        again = keep(teacher=self.teacher, kind="scale", choices={"tonic": "Eb", "octaves": 2})
        self.assertEqual((again, again.revision.piece.is_put_away), (self.scale, False))

    def test_an_exercise_is_kept_once(self):
        again = keep(teacher=self.teacher, kind="scale", choices={"tonic": "Eb", "octaves": 2})
        self.assertEqual(again, self.scale)
        self.assertEqual(self.scale.revision.piece.kind, "technique")
        self.assertIn("E flat major", str(self.scale))

    def test_each_student_gets_their_own_key_and_octave(self):
        people = [self.student(i) for i in ("alto-saxophone", "horn", "tuba", "flute")]
        fields = {"title": "Scale", "due_at": timezone.now(), "tempo": 80.0, "band_percent": 5.0}
        assignment = assign(teacher=self.teacher, passage=self.scale, enrolments=people, fields=fields)
        by_instrument = {t.enrolment.instrument: t.passage for t in assignment.tasks.all()}
        self.assertEqual(by_instrument["flute"], self.scale)
        saxophone = read_part(by_instrument["alto-saxophone"].revision_id, 1)
        self.assertEqual((saxophone.bars[0].fifths, saxophone.notes[0].written_pitch[0]), (0, "C"))
        self.assertEqual(read_part(by_instrument["tuba"].revision_id, 1).clef, "bass")
        self.assertEqual(self.sounding(by_instrument["tuba"])[0] % 12, 3)
        self.assertLess(max(self.sounding(by_instrument["tuba"])), 66)
        # Note ids are common to all parts, so that a pin on the passage holds in each.
        ids = {tuple(n.id for n in read_part(p.revision_id, 1).notes) for p in by_instrument.values()}
        self.assertEqual(len(ids), 1)
        self.assertEqual(frozen_basis(assignment.tasks.get(enrolment=people[2]))["revision_id"], by_instrument["tuba"].revision_id)
        self.assertFalse(parts_written(assignment).is_done)
        engrave_parts(passage_ids=[p.pk for p in by_instrument.values()])
        self.assertTrue(parts_written(assignment).is_done)

    def test_what_does_not_fit_is_shown_with_choices(self):
        part = part_for(passage=self.scale, instrument="trumpet", level="beginner")
        self.assertFalse(all(o.fits for o in part.offers))
        self.assertIn("one octave only", " ".join(o.words for o in part.offers))
        self.assertIn("out of range", " ".join(o.words for o in part.offers))
        shorter = next(o for o in part.offers if o.value.startswith("one_octave"))
        own = written_for(passage=self.scale, instrument="trumpet", offer=shorter.value)
        self.assertLess(len(self.sounding(own)), len(self.sounding(self.scale)))
        self.assertEqual(written_for(passage=self.scale, instrument="trumpet", offer=shorter.value), own)

    def test_untuned_percussion_gets_the_rhythm(self):
        part = part_for(passage=self.scale, instrument="percussion", level="beginner")
        self.assertEqual([o.words for o in part.offers], ["its rhythm, as strokes"])
        written = written_for(passage=self.scale, instrument="percussion")
        self.assertNotEqual(written.pk, self.scale.pk)
        self.assertTrue(all(n.unpitched for n in read_part(written.revision_id, written.part).notes))
        # What is a rhythm already stays as it is.
        line = keep(teacher=self.teacher, kind="rhythm", choices={"bars": 2})
        self.assertEqual(written_for(passage=line, instrument="percussion").pk, line.pk)

    def test_given_again_the_parts_of_those_who_had_it_are_shown_at_once(self):
        self.client.force_login(self.teacher, backend="didactor.people.backends.PasswordBackend")
        url = reverse("assign") + f"?passage={self.scene.passage.pk}"
        self.assertEqual(self.client.get(url).context["rows"], [])
        rows = self.client.get(f"{url}&from={self.scene.assignment.pk}").context["rows"]
        self.assertEqual({e.pk for row in rows for e in row.enrolments}, {self.scene.ylva.pk, self.scene.ossian.pk})

    def test_the_page_suits_sight_reading(self):
        self.client.force_login(self.teacher, backend="didactor.people.backends.PasswordBackend")
        made = keep(teacher=self.teacher, kind="sight_reading", choices={})
        url = reverse("assign") + f"?passage={made.pk}"
        form = self.client.get(url).context["form"]
        self.assertEqual(form["stage"].value(), "sight_reading")
        data = {name: form[name].value() for name in form.fields if form[name].value() not in (None, False)}
        data |= {"enrolments": [self.scene.ylva.pk], "due_at": (timezone.localtime() + timedelta(days=3)).strftime("%Y-%m-%dT%H:%M")}
        for typed, sealed in (("", 60), ("0", None), ("90", 90)):
            self.assertEqual(self.client.post(url, {**data, "preparation_s": typed}).status_code, 302)
            self.assertEqual(Assignment.objects.latest("pk").preparation_s, sealed)
        # What was open from the start is so when it is given again.
        opened = Assignment.objects.filter(preparation_s=None, stage="sight_reading").latest("pk")
        self.assertEqual(kept_of(opened)["preparation_s"], 0)

    def test_no_bars_mean_the_whole_piece(self):
        self.client.force_login(self.teacher, backend="didactor.people.backends.PasswordBackend")
        piece = self.scene.passage.revision.piece
        self.client.post(reverse("library:piece", args=[piece.pk]), {"part": 1, "bars": "", "order": "", "title": "All of it"})
        bars = piece.current.parts[0]["bars"]
        self.assertEqual(Passage.objects.get(title="All of it").bars, f"{bars[0]['number']}-{bars[-1]['number']}")

    def test_the_nearest_fit_stands_first(self):
        part = part_for(passage=self.scale, instrument="trumpet", level="beginner")
        self.assertEqual([o.outside for o in part.offers], sorted(o.outside for o in part.offers))

    def test_the_teacher_chooses_on_the_page(self):
        beginner = self.student("trumpet", "beginner")
        self.client.force_login(self.teacher, backend="didactor.people.backends.PasswordBackend")
        url = f"{reverse('assign')}?passage={self.scale.pk}"
        fragment = f"{reverse('assignments:parts_fragment')}?passage={self.scale.pk}&enrolments={beginner.pk}"
        self.assertContains(self.client.get(fragment), "leave out")
        data = {
            "title": "E flat", "beat_unit": "quarter", "tempo": "80", "stage": "at_tempo", "count_off": "4", "due_at": "2100-01-01T10:00",
            "checklist": ["notes"], "students_see": "marks", "enrolments": [beginner.pk], "part-trumpet-beginner": "leave_out",
        }  # fmt: skip
        self.assertContains(self.client.post(url, data), "Choose at least one student")
        self.client.post(url, {**data, "part-trumpet-beginner": "-1"})
        task = Assignment.objects.get(title="E flat").tasks.get()
        self.assertEqual(min(self.sounding(task.passage)), min(self.sounding(self.scale)) - 12)

    def test_an_exception_for_one_student(self):
        task = self.scene.task
        task.tempo, task.own_due_at = 60.0, timezone.now()
        self.assertEqual(task.targets.tempo_qpm, 60.0)
        self.assertEqual(task.tempo_in_words, "quarter = 60")
        self.assertEqual(task.due_at, task.own_due_at)

    def test_a_rhythm_is_laid_on_a_melody_of_the_library(self):
        choices = melody_of(self.scene.passage)
        self.assertEqual((choices["fifths"], choices["notes"][0]), (2, ("A4", "1")))
        title, drawings = preview("variation", {**choices, "pattern": "s s e", "words": "run-ning far"})
        self.assertIn("run-ning far", title)
        self.assertIn("<svg", drawings["desk"])


class PrintedLineTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def add(self, **change: object):
        data = {"book": "Sound and Shoal, book one", "page": "31", "number": "112", "bars": "8", "metre": "3/4", "tempo": "84", **change}
        return self.client.post(reverse("library:line"), data)

    def test_a_line_of_a_book_is_given_recorded_and_heard_without_its_notes(self):
        response = self.add(photo=SimpleUploadedFile("line.jpg", b"\xff\xd8\xff\xe0" + bytes(40)))
        passage = Passage.objects.get(revision__piece__book_page="31")
        self.assertIn(f"passage={passage.pk}", response.url)
        self.assertContains(self.client.get(response.url), "Sound and Shoal, book one, page 31, number 112")
        photo = self.client.get(reverse("library:photo", args=[passage.revision.piece_id]))
        self.assertEqual(photo["Content-Type"], "image/jpeg")
        fields = {"title": "No. 112", "due_at": timezone.now(), "tempo": 92.0, "band_percent": 5.0, "checklist": ["tempo"]}
        assignment = assign(teacher=self.scene.teacher, passage=passage, enrolments=[self.scene.ylva], fields=fields)
        task = assignment.tasks.get()
        self.assertEqual((assignment.step, task.passage), ("pulse", passage))
        take = receive_take(student=self.scene.ylva.student, task=task, source=io.BytesIO(wav()), filename="take.wav")
        analyse_take(take_id=take.pk)
        result = take.latest_analysis.result
        self.assertIsNone(result["notes"])
        self.assertAlmostEqual(result["tempo"]["played_bpm"], 92, delta=2)
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.PasswordBackend")
        self.assertContains(self.client.get(reverse("task", args=[task.pk])), "page 31")
        self.assertEqual(self.client.get(reverse("stand:take", args=[take.pk])).status_code, 200)

    def test_what_is_no_photo_or_no_line_is_told(self):
        self.assertContains(self.add(photo=SimpleUploadedFile("x.svg", b"<svg onload='x'/>")), "no photo")
        self.assertContains(self.add(bars="0"), "greater than or equal to 1")
        self.assertFalse(Passage.objects.filter(revision__piece__book_page="31").exists())


class LibraryPageTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        keep(teacher=cls.scene.teacher, kind="scale", choices={"tonic": "D"})

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def test_pieces_are_found_by_words_kind_and_tags(self):
        piece = self.scene.passage.revision.piece
        data = {"title": "Test tune", "composer": "Nobody", "kind": "repertoire", "level": "elementary", "tags": "autumn, concert, autumn"}
        self.client.post(reverse("library:details", args=[piece.pk]), data)
        piece.refresh_from_db()
        self.assertEqual(piece.tags, ["autumn", "concert"])
        for query, found, missing in (
            ("words=tune", "Test tune", "D major"),
            ("words=autumn", "Test tune", "D major"),
            ("kind=technique", "D major", "Test tune"),
            ("level=elementary", "Test tune", "D major"),
        ):
            response = self.client.get(f"{reverse('library:index')}?{query}")
            self.assertContains(response, found)
            self.assertNotContains(response, missing)
        self.assertContains(self.client.get(f"{reverse('library:index')}?words=zzz"), "Nothing in the library")

    def test_a_piece_shows_its_hardest_bar_cuts_and_steps(self):
        url = reverse("library:piece", args=[self.scene.passage.revision.piece_id])
        response = self.client.get(f"{url}?tempo=120")
        for words in ("The hardest bar", "Two bars at a time", 'class="heat', "Begin at"):
            self.assertContains(response, words)

    def test_a_teacher_corrects_which_bar_is_hardest(self):
        piece = self.scene.passage.revision.piece
        url, page = reverse("library:correct_bar", args=[piece.pk]), reverse("library:piece", args=[piece.pk])
        found = study_of(revision=piece.current, part=1)
        easiest = min((b for b in found.difficulty.bars if b.value), key=lambda b: b.value).number
        said = {"part": "1", "bar": easiest, "steps": "3", "why": "the breath before it"}
        self.client.post(url, {**said, "steps": "1"})
        # A second word on the same bar replaces the first.
        self.assertContains(self.client.post(url, said, follow=True), f"Bar {easiest}: the breath before it")
        self.assertEqual(piece.bar_corrections.get().steps, 3)
        desk_page = self.client.get(reverse("library:passage", args=[self.scene.passage.pk]))
        proposal = dict(desk_page.context["desk"].proposals)["Hardest first"].split()[0]
        self.assertEqual(proposal.rpartition("-")[2], easiest)
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.PasswordBackend")
        self.assertContains(self.client.get(reverse("study", args=[self.scene.task.pk])), "the breath before it")
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.assertNotContains(self.client.post(url, {**said, "steps": "0"}, follow=True), "the breath before it")
        self.assertContains(self.client.post(url, {**said, "bar": "99"}, follow=True), "Bar 99 is not in this part")
        self.assertEqual(self.client.get(page).context["study"].hardest, found.hardest)

    def test_a_new_assignment_begins_with_the_metres_own_beat_and_count_off(self):
        for beats, beat_type, text, unit, tempo, count_off in (
            (4, 4, "C4:w", "quarter", "96", 4),
            (3, 4, "C4:h.", "quarter", "96", 3),
            (2, 4, "C4:h", "quarter", "96", 4),
            (6, 8, "C4:h.", "dotted_quarter", "64", 4),
            (9, 8, "C4:q. C4:q. C4:q.", "dotted_quarter", "64", 3),
        ):
            with tempfile.TemporaryFile() as source:
                source.write(musicxml(" | ".join([text] * 2), fifths=0, beats=beats, beat_type=beat_type, tempo=96.0))
                source.flush()
                piece = add_piece(teacher=self.scene.teacher, upload=source, filename="m.musicxml", title=f"In {beats}/{beat_type}")
            passage = cut_passage(teacher=self.scene.teacher, revision=piece.current, part=1, bars="1-2")
            form = self.client.get(f"{reverse('assign')}?passage={passage.pk}").context["form"]
            self.assertEqual(tuple(form[name].value() for name in ("beat_unit", "tempo", "count_off")), (unit, tempo, count_off), beats)
        # An upbeat, and the last bar that it shortens, do not shorten the count-off.
        form = self.client.get(f"{reverse('assign')}?passage={self.scene.passage.pk}").context["form"]
        self.assertEqual(form["count_off"].value(), 4)
        self.assertEqual(self.client.get(f"{reverse('assign')}?passage=none").status_code, 404)

    def test_the_score_is_drawn_once_until_something_else_is_found_in_it(self):
        piece = self.scene.passage.revision.piece
        url = reverse("library:piece", args=[piece.pk])
        first = self.client.get(url).context["drawings"]
        with mock.patch("didactor.library.study.study_score", side_effect=AssertionError("drawn again")):
            self.assertEqual(self.client.get(url).context["drawings"], first)
        hardest = study_of(revision=piece.current, part=1).hardest
        other = next(bar["number"] for bar in piece.current.part(1)["bars"][1:] if bar["number"] != hardest)
        self.client.post(reverse("library:correct_bar", args=[piece.pk]), {"part": "1", "bar": other, "steps": "3"})
        again = self.client.get(url).context["drawings"]
        for layout, drawing in again.items():
            self.assertNotEqual(drawing, first[layout])
            self.assertEqual(drawing.count("heat hottest"), 1)


class StudySheetTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def test_layers_are_switched_and_written_for_the_students_own_part(self):
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.PasswordBackend")
        url = reverse("study", args=[self.scene.task.pk])
        page = self.client.get(url).content.decode()
        # A clarinet reads the tune in D in E: four sharps.
        self.assertIn("F sharp, C sharp, G sharp, D sharp", page)
        self.assertIn('class="aid counting"', page)
        self.assertNotIn('class="aid names"', page)
        named = self.client.get(f"{url}?shown=1&layer=names&naming=fixed_do").content.decode()
        self.assertIn(">sol♯</text>", named)
        self.assertNotIn('class="aid counting"', named)
        self.assertNotIn("<html", self.client.get(f"{url}?shown=1", headers={"HX-Request": "true"}).content.decode())


class ImportTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def files(self):
        return [
            SimpleUploadedFile("tides.abc", ABC),
            SimpleUploadedFile("tune.musicxml", musicxml("C4:w", fifths=0)),
            SimpleUploadedFile("photo.png", b"\x89PNG\x00\x00"),
        ]

    def test_many_files_with_a_report_for_each(self):
        self.client.post(reverse("library:upload"), {"score": self.files()})
        batch = Import.objects.get()
        page = reverse("library:import", args=[batch.pk])
        self.assertContains(self.client.get(page), "0 of 3 read")
        for kept in batch.files.all():
            read_file(imported_file_id=kept.pk)
            read_file(imported_file_id=kept.pk)
        response = self.client.get(page)
        for words in ("3 of 3 read", "High tide", "wobble", "no notation that can be read"):
            self.assertContains(response, words)
        self.assertNotContains(response, "hx-get")
        self.assertEqual(Piece.objects.filter(title__endswith="tide").count(), 2)

    def test_each_tune_of_a_file_gives_the_file_back(self):
        self.client.post(reverse("library:upload"), {"score": SimpleUploadedFile("tides.abc", ABC)})
        for piece in Piece.objects.filter(title__endswith="tide"):
            response = self.client.get(reverse("library:original", args=[piece.pk]))
            self.assertEqual(b"".join(response.streaming_content), ABC)
            self.assertEqual(cut_passage(teacher=self.scene.teacher, revision=piece.current, part=1, bars="1-2").note_count, 4)
