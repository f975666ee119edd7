from __future__ import annotations

from typing import Any

from csp.constants import SELF
from csp.decorators import csp_replace
from django.contrib import messages
from django.http import HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.clickjacking import xframe_options_sameorigin
from django.views.decorators.http import require_POST

from didactor.assignments.finding_out import told_of
from didactor.assignments.models import Task
from didactor.assignments.services import decide_answer
from didactor.core.errors import CoreError
from didactor.core.formats.result import Result
from didactor.core.judging.categories import TITLES
from didactor.core.judging.targets import TEMPO_HIGH, TEMPO_LOW
from didactor.core.sound.recording import MAX_DURATION_S
from didactor.core.steps.registry import goals
from didactor.core.words import _, worded
from didactor.library.desk import road_map_of
from didactor.library.said import content_type, opened
from didactor.people.permissions import anybody, teacher_only
from didactor.people.requests import Request
from didactor.review import services
from didactor.review.at_once import DECISIONS, answer_at_once
from didactor.review.checklist import checklist_of
from didactor.review.deciding import proposal_shown
from didactor.review.first_steps import first_steps
from didactor.review.models import Decision, Mark, Review, Standing
from didactor.review.phrases import phrases_of
from didactor.review.querysets import for_alongside, for_the_desk
from didactor.review.waiting import desk_of, next_to_hear, strange_in
from didactor.takes.beside import beside
from didactor.takes.causes import likely_causes
from didactor.takes.listening import gain_since_first, heard_drawings, passage_of, player_data, thinking_shown
from didactor.takes.models import Submission, Take
from didactor.takes.strips import played_tempo, strip_of
from didactor.takes.tone import tone_told
from didactor.web.numbers import read_id, read_number
from didactor.web.ranges import ranged_file

#: Answers in words that are shown.
WORDS_SHOWN = 40


#: What the desk's keys do, by the key each comes with.
KEYS = (
    (" ", _("play, stop")),
    ("b", _("back two seconds")),
    ("n", _("next bar")),
    ("l", _("loop this bar, and on")),
    ("w", _("slower, slower still, as played")),
    ("x", _("the same place beside it, and back")),
    ("m", _("a click on the beat played, on the one asked for")),
    (",", _("one picture of the film back")),
    (".", _("one picture on")),
    ("k", _("keep the first open mark")),
    ("d", _("drop it")),
    ("u", _("take the last of these back")),
    ("r", _("a remark on what sounds")),
    ("1", _("say the first likely cause, or what was measured first")),
    ("2", _("say the second")),
    ("a", _("take over what is proposed")),
    ("c", _("the checklist as it was heard")),
    ("s", _("send, and the next take")),
    ("?", _("these keys")),
)


@teacher_only
def waiting(request: Request) -> HttpResponse:
    """What waits to be heard, oldest first, and what was answered last."""
    return _waiting(request)


def _waiting(
    request: Request, refused: dict[str, Any] | None = None, at_once: dict[str, Any] | None = None, status: int = 200
) -> HttpResponse:
    """The page; with what was typed to an answer in words, or to several takes, that was refused, and why."""
    of, group = read_id(request.GET.get("of")), read_id(request.GET.get("group"))
    context: dict[str, Any] = {
        "desk": desk_of(request.user, of, group),
        "of": of,
        "group": group,
        "words": _answers_in_words(request),
        **Take.objects.with_the_ear_for(request.user),
        "refused": refused,
        "at_once": at_once,
        "decisions_at_once": [(one.value, one.label) for one in DECISIONS],
        "scale": ", ".join(services.steps_of(request.user)),
    }
    if not context["desk"].total and not context["words"]:
        context["first_steps"] = first_steps(request.user)
    return render(request, "review/waiting.html", context, status=status)


def _answers_in_words(request: Request) -> list[Task]:
    """Mostly there are none: what their lines show is asked for where there are."""
    waiting = list(Task.objects.answers_waiting_for(request.user).values_list("pk", flat=True)[:WORDS_SHOWN])
    return list(Task.objects.filter(pk__in=waiting).for_lists().order_by("answered_at")) if waiting else []


@teacher_only
@require_POST
def decide_words(request: Request, pk: int) -> HttpResponse:
    """Take an answer in words, or ask for it once more, with a few words or a sound back."""
    found = get_object_or_404(Task.objects.visible_to(request.user), pk=pk)
    passed, reply = request.POST.get("passed") == "1", request.POST.get("reply", "")
    try:
        decided = decide_answer(task=found, passed=passed, reply=reply, recording=request.FILES.get("recording"))
    except CoreError as error:
        return _waiting(request, refused={"task": found.pk, "reply": reply, "trouble": error.message}, status=422)
    if not decided:
        messages.info(request, worded("This answer was decided on already."))
    return redirect("review:waiting")


def _submission(request: Request, pk: int) -> Submission:
    return get_object_or_404(for_the_desk(Submission.objects.visible_to(request.user), request.user), pk=pk)


def _review(request: Request, pk: int) -> Review:
    """The answer to change: nothing of what was heard is fetched for that."""
    seen = Submission.objects.visible_to(request.user).defer("take__peaks")
    submission = get_object_or_404(seen.select_related("take__task__assignment", "take__task__enrolment__student", "review"), pk=pk)
    return services.open_review(submission=submission, teacher=request.user)


@teacher_only
@csp_replace({"frame-src": [SELF], "frame-ancestors": [SELF]})  # type: ignore[arg-type]
@xframe_options_sameorigin
def detail(request: Request, pk: int) -> HttpResponse:
    """One take on the desk: listen, look, mark, answer."""
    return _desk(request, pk)


def _desk(request: Request, pk: int, refused: services.Draft | None = None, trouble: str = "") -> HttpResponse:
    """The desk; with what was refused still in its fields, and why."""
    submission = _submission(request, pk)
    review = services.open_review(submission=submission, teacher=request.user)
    take = submission.take
    passage = passage_of(take)
    analysis = take.latest_analysis
    result = analysis.heard if analysis else None
    own = getattr(take, "self_review", None)
    found_out = take.task.found_out if take.task.has_found_out else None
    following = next_to_hear(request.user, submission, answered=read_id(request.GET.get("after", "")))
    context = {
        "submission": submission,
        "review": review,
        "marks": _marks(review, result),
        "causes": likely_causes(take, result),
        "tone": tone_told(take, handed_in=True),
        "take": take,
        "strange": strange_in(take) if take.same_as_id else "",
        "task": take.task,
        "assignment": take.task.assignment,
        "student": take.task.enrolment.student,
        "result": result,
        "show_figures": True,
        "drawings": heard_drawings(passage, analysis),
        "road": road_map_of(passage),
        "strip": strip_of(analysis),
        "played": played_tempo(analysis, take.basis["beat_unit"]),
        "player": player_data(take, result),
        "own": own,
        "own_mend": [m for m in own.marks.all() if m.verdict == "mend" and (m.bar or m.text)] if own else [],
        "gain": gain_since_first(take),
        "thinking": thinking_shown(take),
        "found_out": found_out,
        "found_told": told_of(found_out) if found_out else [],
        "categories": list(TITLES.items()),
        "checklist": checklist_of(take, review, result),
        "decisions": Decision.choices,
        "proposal": None if review.sent_at else proposal_shown(take, submission.follows),  # type: ignore[attr-defined]
        "steps_first": [(step.slug, step.title) for step in goals() if step.slug in ("clap", "right", "left")],
        "following": following,
        "following_page": f"{reverse('review:detail', args=[following])}?after={submission.pk}" if following else "",
        "plays": "heard" in request.GET,
        "laid": "after" in request.GET,
        "quality": result.quality if result else None,
        "scale": _scale_for(submission.own_scale or [], review),  # type: ignore[attr-defined]
        "keys": KEYS,
    }
    if refused is not None:
        review.text, review.decision = refused.text, refused.decision
        for name in services.DECIDED:
            setattr(review, name, getattr(refused, name))
        review.checklist = dict(refused.checklist)
        context["checklist"] = checklist_of(take, review, result)
    amending = review.sent_at is not None and ("amend" in request.GET or refused is not None)
    context |= {"trouble": trouble, "amending": amending, "former": review.former.all() if review.sent_at else []}
    return render(request, "review/detail.html", context, status=409 if trouble else 200)


@teacher_only
def alongside(request: Request, pk: int) -> HttpResponse:
    """What lies beside a take on its desk, fetched when the desk is there: what can be heard at the same place, the teacher's phrases."""
    submission = get_object_or_404(for_alongside(Submission.objects.visible_to(request.user)), pk=pk)
    take, review = submission.take, getattr(submission, "review", None)
    is_open = review is None or review.sent_at is None
    context = {"beside": beside(take, passage_of(take)), "phrases": phrases_of(request.user) if is_open else []}
    return render(request, "review/_alongside.html", context)


def _scale_for(steps: list[str], review: Review) -> list[str]:
    """The marks to choose from; one that was given and is not on the scale any more stays among them."""
    return [*steps, review.grade] if review.grade and review.grade not in steps else steps


@teacher_only
@require_POST
def at_once(request: Request) -> HttpResponse:
    """The same answer to several takes."""
    chosen = [pk for pk in map(read_id, request.POST.getlist("take")) if pk is not None]
    sent = {"decision": request.POST.get("decision", ""), "text": request.POST.get("text", "").replace("\r\n", "\n")}
    try:
        done = answer_at_once(teacher=request.user, chosen=chosen, keep="keep" in request.POST, **sent)
    except services.ReviewRefused as error:
        return _waiting(request, at_once={**sent, "chosen": chosen, "keep": "keep" in request.POST, "trouble": str(error)}, status=422)
    if done.sent:
        messages.success(request, worded("Sent: it is with {students}.", students=", ".join(map(str, done.sent))))
    if done.left:
        messages.info(request, worded("Left as they are, begun or answered already: {students}.", students=", ".join(map(str, done.left))))
    return redirect("review:waiting")


@teacher_only
@require_POST
def set_scale(request: Request) -> HttpResponse:
    """The teacher's own marks, with commas between; none for no marks."""
    try:
        services.set_scale(teacher=request.user, steps=request.POST.get("steps", "")[:600].split(","))
        messages.success(request, worded("Kept."))
    except services.ReviewRefused as error:
        messages.error(request, str(error))
    return redirect("review:waiting")


def _marks(review: Review, result: Result | None) -> list[Mark]:
    """Marks by category, in the order in which categories come up; each knows the note whose evidence stands behind it."""
    marks = list(review.marks.all())
    order = list(dict.fromkeys(mark.category for mark in marks))
    for mark in marks:
        mark.note_index = result.index_of_note(mark.note_ids) if result else None  # type: ignore[attr-defined]
    return sorted(marks, key=lambda mark: order.index(mark.category))


def _marks_answer(request: Request, review: Review, error: str = "") -> HttpResponse:
    """The list of marks for htmx, or back to the page for a plain form."""
    if not request.htmx:
        if error:
            messages.error(request, error)
        return redirect("review:detail", pk=review.submission_id)
    analysis = review.submission.take.latest_analysis
    context = {
        "review": review,
        "submission": review.submission,
        "marks": _marks(review, analysis.heard if analysis else None),
        "categories": list(TITLES.items()),
        "error": error,
        # What was refused stays in its fields.
        "typed": request.POST if error else {},
    }
    return render(request, "review/_marks.html", context)


@teacher_only
@require_POST
def decide_mark(request: Request, pk: int, mark_pk: int) -> HttpResponse:
    """Keep, change, drop or put back one mark."""
    review = _review(request, pk)
    mark = get_object_or_404(Mark.objects.select_related("review"), pk=mark_pk, review=review)
    try:
        services.decide_mark(mark=mark, standing=request.POST.get("standing", mark.standing), text=request.POST.get("text"))
    except (services.ReviewRefused, ValueError) as error:
        return _marks_answer(request, review, str(error))
    return _marks_answer(request, review)


@teacher_only
@require_POST
def keep_all(request: Request, pk: int) -> HttpResponse:
    review = _review(request, pk)
    try:
        services.keep_all(review=review)
    except services.ReviewRefused as error:
        return _marks_answer(request, review, str(error))
    return _marks_answer(request, review)


@teacher_only
@require_POST
def add_remark(request: Request, pk: int) -> HttpResponse:
    """A remark pinned to a bar, beat or note."""
    review = _review(request, pk)
    category = request.POST.get("category", "other")
    beat = read_number(request.POST.get("beat", ""), 1.0, 1000.0)
    said = request.FILES.get("said")
    try:
        services.add_remark(
            review=review,
            category=category if category in TITLES else "other",
            text=request.POST.get("text", ""),
            bar=request.POST.get("bar", ""),
            beat=None if beat is None else beat - 1,
            note_id=request.POST.get("note_id", "")[:80],
            at_s=_second(request.POST.get("at_s", "")),
            # Opened before anything is locked: that takes as long as the recording is.
            said=opened(said) if said else None,
        )
    except services.ReviewRefused as error:
        return _marks_answer(request, review, str(error))
    except CoreError as error:
        return _marks_answer(request, review, error.message)
    return _marks_answer(request, review)


@anybody
def said(request: Request, pk: int) -> HttpResponseBase:
    """What a teacher said or filmed with a remark; for the student once the answer is sent."""
    seen = Take.objects.visible_to(request.user)
    marks = Mark.objects.filter(review__submission__take__in=seen).exclude(said="")
    if not request.user.is_teacher:
        marks = marks.filter(review__sent_at__isnull=False, standing=Standing.KEPT)
    found = get_object_or_404(marks, pk=pk)
    return ranged_file(request, found.said, content_type(str(found.said.name)))


def _second(text: str) -> float | None:
    """A second of the recording, as typed; None for nothing or nonsense."""
    return read_number(text, 0.0, MAX_DURATION_S)


def _draft(request: Request) -> services.Draft:
    return services.Draft(
        text=request.POST.get("text", "").replace("\r\n", "\n"),
        decision=request.POST.get("decision", ""),
        decision_tempo=read_number(request.POST.get("decision_tempo", ""), TEMPO_LOW, TEMPO_HIGH),
        decision_bars=request.POST.get("decision_bars", "").replace("–", "-").replace(" ", "")[:40],
        decision_step=request.POST.get("decision_step", "")[:10],
        decision_minutes=read_id(request.POST.get("decision_minutes", "")[:3]),
        grade=request.POST.get("grade", "").strip()[:20],
        checklist={name.removeprefix("verdict-"): str(value) for name, value in request.POST.items() if name.startswith("verdict-")},
        version=read_id(request.POST.get("version", "")),
    )


@teacher_only
@require_POST
def save_draft(request: Request, pk: int) -> HttpResponse:
    """Kept while the teacher writes. The answer carries the new version, so that the next change is over it."""
    try:
        review = services.save_draft(review=_review(request, pk), draft=_draft(request))
    except services.ReviewRefused as error:
        return HttpResponse(str(error))
    return render(request, "review/_draft_kept.html", {"review": review})


@teacher_only
@require_POST
def send(request: Request, pk: int) -> HttpResponse:
    """Send the answer and go on to the next take that waits."""
    review, draft = _review(request, pk), _draft(request)
    following = next_to_hear(request.user, review.submission)
    try:
        if "amend" in request.POST:
            services.amend(review=review, teacher=request.user, draft=draft)
        else:
            services.send(review=review, draft=draft)
    except services.ReviewRefused as error:
        return _desk(request, pk, refused=draft, trouble=str(error))
    said = (
        worded("Amended: it is with {student}.", student=review.submission.take.task.enrolment.student)
        if "amend" in request.POST
        else worded("Sent: it is with {student}.", student=review.submission.take.task.enrolment.student)
    )
    if "amend" in request.POST:
        to = reverse("review:detail", args=[pk])
    else:
        # The next one plays by itself: one hand stays on the keyboard.
        on = following is not None and "next" in request.POST
        to = f"{reverse('review:detail', args=[following])}?heard" if on else reverse("review:waiting")
    if "laid" in request.POST and to != reverse("review:waiting"):
        # The next take's page is there already, laid under this one: what became of this answer is said on it by the script.
        return JsonResponse({"to": to, "said": said, "of": reverse("review:detail", args=[pk])})
    messages.success(request, said)
    return JsonResponse({"to": to}) if "laid" in request.POST else redirect(to)
