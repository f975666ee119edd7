"""What the pages of the stand show, gathered in few queries: one task, one take."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.db.models import Prefetch
from django.urls import reverse
from django.utils import timezone

from didactor.assignments import finding_out
from didactor.assignments.crossing import crossing_settings
from didactor.assignments.models import StudentSees, Task
from didactor.core.judging.categories import TITLES
from didactor.core.judging.stages import BY_SLUG
from didactor.core.planning.tempi import to_begin_with
from didactor.core.words import worded
from didactor.library.desk import has_additions, numbered_remarks, pinned_drawings, road_map_of
from didactor.library.drawings import plain_drawings
from didactor.library.models import ModelSound
from didactor.library.sounds import accompaniment_of, enters_s
from didactor.people.models import ConsentKind, Person
from didactor.people.services import WORDINGS
from didactor.progress.rows import task_rows
from didactor.review.models import Review
from didactor.stand.listening_back import laid_beside, pins_answered, rows_of_list
from didactor.takes.best import best_of
from didactor.takes.deliveries import given_to
from didactor.takes.listening import gain_since_first, heard_drawings, passage_of, player_data, remarks_of, thinking_shown
from didactor.takes.models import Analysis, OnTheWhole, Take, TakeState, Together
from didactor.takes.permissions import sight_of
from didactor.takes.services import TakeRefused, check_may_record, takes_spent
from didactor.takes.strips import BarStrip, played_tempo, strip_of
from didactor.takes.tone import tone_told
from didactor.takes.turn import turn_of


def accompaniment_data(task: Task) -> dict[str, Any] | None:
    """The accompaniment to play along with, if it is rendered; ``leadS`` is when the student enters in it."""
    qpm, count_off = task.targets.tempo_qpm, task.assignment.count_off
    key = accompaniment_of(task.passage, qpm, count_off)
    sound = ModelSound.objects.filter(**key).exclude(sound="").first() if key else None
    if sound is None:
        return None
    url = reverse("library:model_sound", args=[sound.pk])
    return {"sound": sound.pk, "url": url, "leadS": enters_s(sound), "intro": sound.intro_bars}


def may_agree(student: Person, person: Person) -> bool:
    """Who decides whether a student is heard together with others: themselves when of age, else a guardian."""
    return person.is_guardian if student.is_minor else person == student


def together_of(task: Task, person: Person) -> dict[str, Any]:
    """Where a group plays the same: whether this student agrees to be heard together with the others, and the newest such recording."""
    if task.assignment.own_grade or task.assignment.is_listening or task.assignment.tasks.count() < 2:
        return {}
    agreed, made = task.student.has_consent(ConsentKind.TOGETHER), None
    if agreed:
        made = Together.objects.visible_to(person).filter(assignment=task.assignment, takes__task=task).exclude(sound="").first()
    return {"agreed": agreed, "may": may_agree(task.student, person), "made": made, "wording": WORDINGS[ConsentKind.TOGETHER]}


def task_page(task: Task, person: Person, step: str = "") -> dict[str, Any]:
    """Everything on the page of one task; ``step`` is the one that the recorder is to begin with."""
    assignment = task.assignment
    rows = task_rows(Task.objects.filter(pk=task.pk).for_lists())
    summaries = Prefetch("analyses", queryset=Analysis.objects.summaries())
    found = task.takes.select_related("submission__review", "self_review").prefetch_related(summaries).defer("peaks")
    takes = list(found.order_by("-number"))
    state = recording_state(task, person)
    return {
        "task": task,
        "assignment": assignment,
        "drawings": pinned_drawings(task.passage) if has_additions(task.passage) else plain_drawings(task.passage),
        "remarks": numbered_remarks(task.passage),
        "road": road_map_of(task.passage),
        "references": task.passage.root.references.prefetch_related("moments"),
        "row": rows[0],
        "takes": [(take, _strip_shown(take, person)) for take in takes],
        "comparable": sum(take.state == TakeState.ANALYSED and bool(take.playback) for take in takes) > 1,
        "steps": step_entries(task, takes, step),
        "asked_step": step,
        "own_tempo": tempo_proposed(task),
        "best": best_of([task.pk]).get(task.pk) if task.fast_tempo else None,
        "prepared_s": prepared_s(task),
        "together": together_of(task, person),
        "study_open": aids_are_open(task),
        **state,
        "crossing": crossing_settings(task) is not None,
        "drills": task.passage.note_count > 0 and not assignment.is_listening and not assignment.own_grade,
        "next": None if assignment.is_listening else next_thing(task, takes, may_record=not state["refusal"]),
        "recorder": recorder_data(task),
    }


def _strip_shown(take: Take, person: Person) -> BarStrip:
    """A take's bars at a glance, where the student may see them yet."""
    seen = not take.waits_for_listening or take.is_answered or person.is_teacher
    shown = seen and take.task.assignment.students_see != StudentSees.REMARKS
    return strip_of(take.latest_analysis) if shown else BarStrip()


def aids_are_open(task: Task) -> bool:
    """Whether the study sheet may be used: of what is read at sight only after the first take, unless the teacher leaves it open."""
    return not task.is_read_at_sight or task.assignment.aids_open or task.takes.exists()


def finding_page(task: Task, person: Person) -> dict[str, Any]:
    """What a student is to find in the notes, or what was found; only the student's own looking begins with it."""
    kept = getattr(task, "found_out", None)
    if kept is None and task.enrolment.student_id == person.pk:
        kept = finding_out.begin(task)
    asked = finding_out.questions_of(task)
    return {
        "task": task,
        "assignment": task.assignment,
        "asked": asked,
        "listed": finding_out.listed(task, asked),
        "to_count": finding_out.to_count(asked),
        "count_words": finding_out.count_words(asked),
        "kept": kept,
        "told": finding_out.told_of(kept) if kept and kept.done_at else [],
        "drawings": finding_out.found_drawings(task, kept),
        "tempi": task.tempi,
        "prepared_s": prepared_s(task),
        "aids_open": aids_are_open(task),
        "next": next_thing(task, list(task.takes.all()), may_record=True),
    }


@dataclass(frozen=True, kw_only=True)
class NextThing:
    """What a student does next with a task: one button, and what it is about."""

    words: str
    url: str


def next_thing(task: Task, takes: Sequence[Take], may_record: bool) -> NextThing | None:
    """From the first look to the answer: play, listen back, see what was heard, hand in, read the answer. None where nothing is to be done.

    Args:
        takes: all of the task, the newest first.
    """
    if may_record and task.finds_out and not task.has_found_out and not takes:
        return NextThing(words=worded("Look first: what is in it?"), url=reverse("stand:find_out", args=[task.pk]))
    goal = next((take for take in takes if take.on_the_way is None), None)
    page = reverse("stand:take", args=[goal.pk]) if goal else ""
    play = NextThing(words=worded("Sit down and play"), url=reverse("stand:play", args=[task.pk])) if may_record else None
    if goal is None or (goal.is_settled and goal.state != TakeState.ANALYSED):
        return play
    if not goal.is_settled:
        return NextThing(words=worded("{goal} is being heard", goal=goal), url=page)
    if goal.is_answered:
        return NextThing(words=worded("Read the answer to {goal}", goal=str(goal).lower()), url=page)
    if goal.is_submitted:
        return NextThing(words=worded("Play it once more"), url=play.url) if play else None
    if task.assignment.own_grade is not None:
        return NextThing(words=worded("How it was, and the next line"), url=reverse("practice:reading", args=[task.enrolment_id]))
    return NextThing(
        words=worded("Listen back to {goal}", goal=str(goal).lower())
        if goal.waits_for_listening
        else worded("Hand in {goal}", goal=str(goal).lower()),
        url=page,
    )


def recording_state(task: Task, person: Person) -> dict[str, Any]:
    """Whether something can be recorded, or why not; how many takes are left; the accompaniment to record with."""
    refusal = ""
    try:
        check_may_record(student=person, task=task)
    except TakeRefused as error:
        refusal = str(error)
    allowed = task.assignment.takes_allowed
    return {
        "no_pictures": bool(task.assignment.must_show) and task.enrolment.student.picture_consent_missing,
        "refusal": refusal,
        "takes_left": allowed - takes_spent(task) if allowed else None,
        "accompaniment": accompaniment_data(task),
    }


def tempo_proposed(task: Task) -> int:
    """What the next take is begun at where the tempo is free: the last one at which nothing was found, else the ladder's first rung."""
    takes = Take.objects.filter(task=task, state=TakeState.ANALYSED).prefetch_related("analyses").order_by("number")
    clean = [take for take in takes if take.latest_analysis and take.latest_analysis.summary.get("findings") == 0]
    tempi = [take.own_tempo or task.asked_tempo for take in clean if take.on_the_way is None]
    return to_begin_with(task.asked_tempo, task.assignment.ladder, tempi)


def recorder_data(task: Task) -> dict[str, Any]:
    """What the recorder in the browser needs."""
    return {
        "backing": accompaniment_data(task),
        "tempo": task.asked_tempo,
        "countOff": task.assignment.count_off,
        "keepGoing": BY_SLUG[task.assignment.stage].hesitations == "fault",
        "task": task.pk,
        "title": str(task.assignment),
        "person": task.enrolment.student_id,
        "uploads": reverse("takes:uploads"),
        "takePage": reverse("stand:take", args=[0]),
    }


def step_entries(task: Task, takes: list[Take], asked: str) -> list[dict[str, Any]]:
    """The steps of a task and which are done: recorded ones by a take that was heard, the others by the student's word. The recorder
    begins with the one asked for, else with the goal.
    """
    chosen = asked if asked in {step.slug for step in task.steps} else task.assignment.step
    heard = {take.basis.get("step") for take in takes if take.state == TakeState.ANALYSED}
    ticked = {*heard, *task.steps_done}
    return [
        {
            "step": step,
            "done": step.slug in (heard if step.ear else ticked),
            "last": step.slug == task.assignment.step,
            "chosen": step.slug == chosen,
        }
        for step in task.steps
    ]


def prepared_s(task: Task) -> int | None:
    """Seconds left of the preparation clock; 0 when it has run out, None without one."""
    allowed = task.assignment.preparation_s
    if allowed is None or task.opened_at is None:
        return None
    return max(0, allowed - int((timezone.now() - task.opened_at).total_seconds()))


def _next_step(take: Take) -> str:
    """The slug of the step after the one that this take records."""
    slugs = [step.slug for step in take.task.steps]
    return slugs[min(slugs.index(take.on_the_way.slug) + 1, len(slugs) - 1)] if take.on_the_way in take.task.steps else slugs[-1]


def _checklist_of(take: Take) -> list[tuple[str, str]]:
    step = take.on_the_way
    if step is None or not step.listen_for:
        return take.task.assignment.student_entries
    return [(slug, TITLES[slug]) for slug in step.listen_for]


def take_page(take: Take, person: Person) -> dict[str, Any]:
    """The student's page of one take: first the ear and the checklist, then what was heard."""
    assignment = take.task.assignment
    analysis = take.latest_analysis
    sight = sight_of(take, person)
    own = getattr(take, "self_review", None)
    rows = _checklist_of(take)
    review = Review.objects.filter(submission__take=take, sent_at__isnull=False).select_related("teacher").first()
    opened_result = sight.result if sight.opened else None
    return {
        "take": take,
        "turn": turn_of(take),
        "task": take.task,
        "assignment": assignment,
        "is_owner": take.task.enrolment.student_id == person.pk,
        "result": sight.result,
        "own": own,
        "pins": [m for m in own.marks.all() if m.bar] if own else [],
        "checklist": rows_of_list(assignment, rows, own),
        "on_the_whole": [
            ("easy", worded("Was it easy?"), own.easy if own else ""),
            ("as_meant", worded("Did it sound as you meant?"), own.as_meant if own else ""),
        ],
        "answers_on_the_whole": OnTheWhole.choices,
        "laid": laid_beside(take, own, opened_result),
        "gain": gain_since_first(take) if opened_result is not None else "",
        "tone": tone_told(take, handed_in=person.is_teacher) if opened_result is not None and sight.figures else [],
        "given": given_to(take),
        "thinking": thinking_shown(take) if opened_result is not None else None,
        "answered_pins": pins_answered(take, opened_result),
        "must_be_heard": assignment.to_the_end and take.heard_through_at is None and not take.on_the_way,
        "pinned_about": [(row, title) for row, title in rows if row in TITLES],
        "review": review,
        "kept": list(review.marks.filter(standing="kept")) if review else [],
        "show_heard": sight.result is not None,
        "show_figures": sight.figures,
        "opened": sight.opened,
        "next_step": _next_step(take),
        "sees_marks": assignment.students_see != StudentSees.REMARKS,
        "drawings": heard_drawings(passage_of(take), analysis if sight.result else None),
        "road": road_map_of(passage_of(take)),
        "remarks": remarks_of(sight.result),
        "strip": strip_of(analysis) if sight.result else BarStrip(),
        "played": played_tempo(analysis, take.basis["beat_unit"]),
        "player": player_data(take, sight.result),
        "quality": analysis.heard.quality if analysis else None,
    }
