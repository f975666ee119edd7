"""Every kind of passage on every page that shows one, for teacher, student and guardian, in both languages, at every state of its task.

The kinds are held against what the program can make, the pages against its addresses, so that neither can be left out. A quarter of the
pages is opened at each state of a kind, in turn: every page of every kind, every page at every state, and every kind at every state are
opened, in both languages. ``DIDACTOR_THOROUGH=1`` opens all pages of all kinds at all states in both (half an hour).
"""

from __future__ import annotations

import io
import itertools
import os
import traceback
from collections.abc import Iterable, Iterator
from datetime import timedelta
from typing import Any

import numpy as np
import soxr
from django.conf import settings
from django.test import SimpleTestCase, TestCase, tag
from django.urls import get_resolver, reverse
from django.utils import timezone

from didactor.assignments.models import FULL_CHECKLIST, Task, TaskState
from didactor.assignments.services import answer_question, assign, decide_answer, withdraw
from didactor.core.instruments import find_instrument
from didactor.core.practising.drills.registry import all_kinds
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate, wav_bytes
from didactor.core.sound.recording import RATE_HZ
from didactor.core.steps import goals
from didactor.library.models import ModelSound
from didactor.library.notation import expectation_of, expectation_of_passage
from didactor.people.services import add_guardian, add_student, record_consent
from didactor.review.models import Decision, Review
from didactor.review.services import Draft, amend, open_review, send
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Submission, Take
from didactor.takes.services import receive_take, submit_take
from tests import scene as scenes
from tests.apps.addresses import (
    Addresses,
    names,
    of_assignment,
    of_passage,
    of_piece,
    of_student,
    of_submission,
    of_take,
    of_task,
)
from tests.apps.who_may import EXPECTED
from tests.kinds import EVERY_KIND, KindOfPassage, what_can_be_made
from tests.music import wav

BACKEND = "didactor.people.backends.PasswordBackend"
LANGUAGES = ("en", "de")
THOROUGH = os.environ.get("DIDACTOR_THOROUGH") == "1"
#: Of the pages one in so many is opened at a state.
ONE_IN = 4
#: Addresses without an argument that list passages, tasks or takes.
LISTS = (
    "home",
    "library:index",
    "assignments:index",
    "stand:index",
    "review:waiting",
    "people:students",
    "assign",
    "assignments:parts_fragment",
    "assignments:slots",
    "troubles",
    "letters",
)
#: Made of a kind by its name: asked for one by one.
BY_NAME = ("practice:drill", "takes:download", "library:model_sound", "library:passage_note")
#: Pages that show no passage: of people, of the installation, of things that hang on one row of their own.
OF_NO_PASSAGE = {
    *("words", "service_worker", "offline", "health", "ready", "metrics", "demo:left", "demo:left_sound"),
    *("library:upload", "library:line", "library:add_recording", "library:import", "library:import_fragment", "library:write"),
    *("library:write_fragment", "library:exercise", "library:exercise_fragment", "library:reference", "library:reference_sound"),
    *("library:delete_reference", "assignments:checklist_fragment", "assignments:series", "assignments:series_again"),
    *("assignments:week_note", "assignments:note_said", "assignments:calendar", "assignments:calendar_address"),
    *("assignments:withdraw_slot", "assignments:choose_slot", "practice:piece", "practice:sound", "takes:uploads", "takes:upload"),
    *("takes:together", "progress:drop_together", "review:said", "review:decide_mark", "review:set_scale", "review:at_once"),
    *("letters:mailbox", "letters:stop"),
}
OF_PEOPLE = "people:"
#: Who they are in the table of ``who_may``.
AS_IN_SCENE = {"teacher": "teacher", "student": "ylva", "guardian": "guardian"}


class TheListsTests(SimpleTestCase):
    def test_every_way_to_a_passage_has_a_kind(self):
        self.assertEqual(set(), what_can_be_made() - {kind.made for kind in EVERY_KIND})

    def test_every_goal_is_asked_for(self):
        asked = {kind.step for kind in EVERY_KIND}
        hands = {step.slug for step in goals() if step.staff is not None}
        self.assertEqual(set(), {step.slug for step in goals()} - asked - hands)

    def test_every_address_shows_a_passage_or_is_said_to_show_none(self):
        class Any_:
            pk = student_id = group_id = 0

        one: Any = Any_()
        of = (of_piece, of_passage, of_assignment, of_task, of_student, of_take, of_submission)
        shown = {*LISTS, *BY_NAME, *itertools.chain.from_iterable(make(one) for make in of)}
        every = {name for name in names(get_resolver()) if not name.startswith(OF_PEOPLE)}
        self.assertEqual((set(), set()), (every - shown - OF_NO_PASSAGE, (shown | OF_NO_PASSAGE) - every - set(LISTS) - set(shown)))


@tag("pages")
class OneKind(scenes.OwnFolders):
    """Walks one kind through all states of its task, and opens everything at each."""

    kind: KindOfPassage

    @classmethod
    def setUpTestData(cls) -> None:
        cls.teacher = scenes.teacher("Outer light", "hedda")
        studio = cls.teacher.studio
        cls.enrolment = add_student(
            studio=studio, name="Ylva", instrument=cls.kind.instrument, level="intermediate", group_name="Skerries", is_minor=True
        )
        cls.guardian = add_guardian(student=cls.enrolment.student, name="Runa")
        record_consent(student=cls.enrolment.student, given_by="Runa", recorded_by=cls.teacher)
        cls.passage = cls.kind.make(cls.teacher)
        fields = {
            "title": "This week's",
            "due_at": timezone.now() + timedelta(days=3),
            "tempo": 92.0,
            "stage": "at_tempo",
            "band_percent": 5.0,
            "checklist": FULL_CHECKLIST,
            "students_see": "figures",
            "listen_first": False,
            "step": cls.kind.step,
            **cls.kind.fields,
        }
        cls.assignment = assign(teacher=cls.teacher, passage=cls.passage, enrolments=[cls.enrolment], fields=fields)
        cls.people = {"teacher": cls.teacher, "student": cls.enrolment.student, "guardian": cls.guardian}

    @property
    def task(self) -> Task:
        return self.assignment.tasks.get()

    def sound(self) -> bytes:
        """The first bars, as the simulated player plays them in the way that is asked for."""
        task = self.task
        passage = task.passage
        if not passage.revision.piece.has_notation:
            return wav()
        whole = expectation_of_passage(passage)
        if len(whole.bars) > 12:
            whole = expectation_of(revision_id=passage.revision_id, part=passage.part, bars="1-12")
        manner = {"clap": "clap", "chords": "strum"}.get(self.kind.step, "play")
        take = simulate(whole, find_instrument(self.kind.instrument), 92.0, room="bedroom", seed=5, manner=manner)
        return wav_bytes(soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32), RATE_HZ)

    # --- Opening everything ------------------------------------------------------------------------------------------

    def addresses(self) -> Iterator[tuple[str, str]]:
        """Name and address of everything there is of the passage now."""
        task, take = self.task, Take.objects.filter(task=self.task).order_by("-pk").first()
        submission = Submission.objects.filter(take__task=task).order_by("-pk").first()
        of: Addresses = {**of_assignment(self.assignment), **of_task(task), **of_student(self.enrolment)}
        of |= of_take(take) if take else {}
        of |= of_submission(submission) if submission else {}
        for name, arguments in of.items():
            yield name, reverse(name, args=arguments)
        for name in LISTS:
            query = f"?passage={self.passage.pk}&enrolments={self.enrolment.pk}"
            yield name, reverse(name) + query
        for drill in all_kinds():
            yield "practice:drill", reverse("practice:drill", args=[task.pk, drill.slug])
        if take:
            for what in ("figures", "midi", "score"):
                yield "takes:download", reverse("takes:download", args=[take.pk, what])

    def of_the_library(self) -> Iterator[tuple[str, str]]:
        for passage in {self.passage, self.task.passage}:
            for name, arguments in {**of_piece(passage.revision.piece), **of_passage(passage)}.items():
                yield name, reverse(name, args=arguments)
            note = next((n.id for n in expectation_of_passage(passage).notes), "") if passage.note_count else "none"
            yield "library:passage_note", reverse("library:passage_note", args=[passage.pk]) + f"?note={note}"
        for sound in ModelSound.objects.all()[:2]:
            yield "library:model_sound", reverse("library:model_sound", args=[sound.pk])

    def open(self, state: str, addresses: Iterable[tuple[str, str]], everything: bool = THOROUGH) -> set[tuple[str, str]]:
        """Ask for what each may see. Returns who was shown what; fails on whatever broke."""
        broken, shown = [], set()
        turn = next(self.turns)
        for who, person in self.people.items():
            person.refresh_from_db()
            self.client.force_login(person, backend=BACKEND)
            self.client.raise_request_exception = False
            for number, (name, url) in enumerate(addresses):
                if AS_IN_SCENE[who] not in EXPECTED[name] or (not everything and (number + turn) % ONE_IN):
                    continue
                for language in LANGUAGES if everything else (LANGUAGES[(number + turn) // ONE_IN % 2],):
                    self.client.cookies[settings.LANGUAGE_COOKIE_NAME] = language
                    answer = self.client.get(url)
                    if answer.status_code >= 500:
                        said = traceback.format_exception(*answer.exc_info)[-2:] if answer.exc_info else []
                        broken.append(f"{state}: {who} opened {name} ({language}): {answer.status_code} {''.join(said)}")
                    if answer.status_code == 200:
                        shown.add((who, name))
        self.assertEqual([], broken, f"{self.kind.name}\n" + "\n".join(broken))
        return shown

    def open_all(self, state: str) -> None:
        self.open(state, list(self.addresses()))

    # --- The way of a task -------------------------------------------------------------------------------------------

    def test_every_page_at_every_state(self) -> None:
        self.turns = itertools.count(EVERY_KIND.index(self.kind))
        # The library's pages know no state of a task.
        shown = self.open("new", list(self.of_the_library()), everything=True)
        self.assertLessEqual({("teacher", "library:piece"), ("teacher", "library:passage")}, shown)
        if self.task.is_sealed:
            self.open_all("sealed")
            Task.objects.update(opened_at=timezone.now())
        self.open_all("open")
        states = {self.task.state}
        if self.kind.step == "listen":
            answer_question(task=self.task, text="It swells in the middle.")
            self.open_all("handed in")
            self.assertTrue(decide_answer(task=self.task, passed=False, reply="Listen to its end."))
            self.open_all("answered")
            self.assertEqual(TaskState.ANSWERED, self.task.state)
        else:
            self.assertEqual(set(TaskState.values), states | self.play_and_answer())
        withdraw(self.assignment.tasks.all())
        self.open_all("withdrawn")

    def play_and_answer(self) -> set[str]:
        """A take recorded, heard, handed in and answered, once more and then passed. Returns the states that were gone through."""
        states = set()
        take = receive_take(student=self.enrolment.student, task=self.task, source=io.BytesIO(self.sound()), filename="take.wav")
        self.open_all("recorded")
        analyse_take(take_id=take.pk)
        take.refresh_from_db()
        self.assertEqual(take.state, "analysed", take.trouble)
        self.open_all("heard")
        states.add(self.task.state)
        submit_take(take=take)
        self.open_all("handed in")
        states.add(self.task.state)
        review = open_review(submission=Submission.objects.get(), teacher=self.teacher)
        send(review=review, draft=Draft(text="Well held.", decision=Decision.ONCE_MORE))
        self.open_all("answered")
        states.add(self.task.state)
        amend(review=Review.objects.get(), teacher=self.teacher, draft=Draft(text="Well held, passed.", decision=Decision.PASSED))
        self.open_all("passed")
        return states | {self.task.state}


for _kind in EVERY_KIND:
    _name = "".join(word.capitalize() for word in _kind.name.replace("/", " ").replace("'", "").replace(",", "").split()) + "Tests"
    globals()[_name] = type(_name, (OneKind, TestCase), {"kind": _kind, "__module__": __name__})
