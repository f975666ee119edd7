"""The student's side: this week's passages, one passage to study and record, one take to listen back to, mark and hand in."""

from __future__ import annotations

import hashlib
import json
from datetime import timedelta
from typing import IO, Any, cast

from django.contrib import messages
from django.core.cache import cache
from django.http import Http404, HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_POST

from didactor.assignments import finding_out
from didactor.assignments.cards import printed_cards
from didactor.assignments.checklists import OWN
from didactor.assignments.models import Slot, Task, WeekNote
from didactor.assignments.services import answer_question, tick_step
from didactor.assignments.services import open_sealed as open_the_seal
from didactor.assignments.studying import LAYERS, study_sheet
from didactor.core.errors import AudioError, CoreError, PassageError
from didactor.core.hearing.one_tone import tones_to_tune
from didactor.core.instruments import find_instrument
from didactor.core.judging.categories import TITLES
from didactor.core.judging.targets import TEMPO_HIGH, TEMPO_LOW
from didactor.core.score.study.finding_out import Answers
from didactor.core.score.study.reading_aids import NAMINGS
from didactor.core.sound.spoken_names import say_words
from didactor.core.words import worded
from didactor.library.desk import road_map_of
from didactor.people.models import ConsentKind, Person
from didactor.people.permissions import anybody, family, student_only
from didactor.people.requests import Request
from didactor.people.services import record_consent, withdraw_consent
from didactor.progress.rows import task_rows
from didactor.stand.beside import beside_page, heard_takes, opened_pair, pair_page, shuffled
from didactor.stand.pages import aids_are_open, finding_page, may_agree, take_page, task_page
from didactor.stand.playing import Wanted, may_be_heard, playing_page, sound_data
from didactor.takes import services
from didactor.takes.models import Take
from didactor.takes.soundcheck import MOST_BYTES, check_sound, check_tone
from didactor.takes.turn import turn_of
from didactor.takes.uploads import own_tempo, read_clicks
from didactor.web.numbers import read_id, read_number
from didactor.web.ranges import ranged_file
from didactor.web.speaking import naming_spoken

#: What is passed or withdrawn, on the stand.
OVER_SHOWN = 8
#: Times to be heard live that are looked through.
SLOTS_SHOWN = 60


@family
def index(request: Request) -> HttpResponse:
    """The student's passages of the week on one page; a guardian sees those of each ward."""
    people = Person.objects.visible_to(request.user).students()
    mine = Task.objects.visible_to(request.user)
    ahead, over = mine.for_lists().on_the_stand().split()
    shown = None if "all" in request.GET else OVER_SHOWN
    stands = [
        {
            "student": person,
            "rows": task_rows(ahead.filter(enrolment__student=person)),
            "over": task_rows(over.filter(enrolment__student=person), shown),
            "players": [e for e in person.enrolments.active() if find_instrument(e.instrument).pitched],
            "readers": [e for e in person.enrolments.active() if e.reads_notes and find_instrument(e.instrument).pitched],
        }
        for person in people
    ]
    times = list(Slot.objects.visible_to(request.user).to_come()[:SLOTS_SHOWN])
    for stand in stands:
        stand["times"] = _times(times, stand["student"])
    today = timezone.localdate()
    monday = today - timedelta(days=today.weekday())
    notes = WeekNote.objects.visible_to(request.user).filter(monday=monday).select_related("group", "written_by")
    context = {"stands": stands, "notes": notes, "waiting": mine.waiting_in_series(), "over_shown": shown}
    return render(request, "stand/index.html", context)


def _times(times: list[Slot], person: Person) -> dict[str, Any]:
    """When one student is heard live, and what is free for them; nothing where nobody offers a time."""
    enrolments = list(person.enrolments.active())
    own = next((slot for slot in times if slot.enrolment_id in {e.pk for e in enrolments}), None)
    free = [(slot, e) for slot in times if slot.enrolment_id is None for e in enrolments[:1] if slot.group_id in (None, e.group_id)]
    return {"own": own, "free": free} if own or free else {}


@family
def task(request: Request, pk: int) -> HttpResponse:
    """One passage to study, practise and record. A sealed one shows nothing before its clock is started."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    waits_for = found.waits_for
    if waits_for is not None:
        return render(request, "stand/waits.html", {"task": found, "assignment": found.assignment, "waits_for": waits_for})
    if found.is_sealed:
        return render(request, "stand/sealed.html", {"task": found, "assignment": found.assignment})
    return render(request, "stand/task.html", task_page(found, request.user, request.GET.get("step", "")))


def _task(request: Request, pk: int) -> Task:
    """A task of the student's own."""
    return get_object_or_404(Task.objects.filter(enrolment__student=request.user).for_lists(), pk=pk)


@family
@require_POST
def agree(request: Request, pk: int) -> HttpResponse:
    """To be heard together with the others of the group, or not any more: by who is of age, else by a guardian."""
    found = get_object_or_404(Task.objects.visible_to(request.user), pk=pk)
    if not may_agree(found.student, request.user):
        messages.error(request, worded("A guardian decides this."))
    elif "not" in request.POST:
        withdraw_consent(student=found.student, kind=ConsentKind.TOGETHER)
        messages.success(request, worded("Left out from now on; what it was in cannot be heard any more."))
    elif not found.student.has_consent(ConsentKind.TOGETHER):
        record_consent(student=found.student, given_by=request.user.name, recorded_by=request.user, kind=ConsentKind.TOGETHER)
        messages.success(request, worded("Thank you: your teacher may put it together with the others."))
    return redirect("task", pk=pk)


@anybody
def reply_sound(request: Request, pk: int) -> HttpResponseBase:
    """What the teacher said or played back to an answer in words."""
    found = get_object_or_404(Task.objects.visible_to(request.user).exclude(reply_sound=""), pk=pk)
    return ranged_file(request, found.reply_sound, "audio/mp4")


@student_only
@require_POST
def open_sealed(request: Request, pk: int) -> HttpResponse:
    """Start the preparation clock; now the passage is shown."""
    found = _task(request, pk)
    open_the_seal(found)
    return redirect("task", pk=pk)


@student_only
@require_POST
def tick(request: Request, pk: int) -> HttpResponse:
    """A step on the way is done."""
    found = _task(request, pk)
    slug = request.POST.get("step", "")
    if slug in {s.slug for s in found.steps if s.ear is None}:
        tick_step(task=found, slug=slug, done=request.POST.get("done") == "1")
    return redirect("task", pk=pk)


@student_only
@require_POST
def answer(request: Request, pk: int) -> HttpResponse:
    """An answer in words to what was heard."""
    found = _task(request, pk)
    try:
        answer_question(task=found, text=request.POST.get("answer", ""))
    except PassageError as error:
        messages.error(request, error.message)
    else:
        messages.success(request, worded("Your answer is with your teacher."))
    return redirect("task", pk=pk)


@family
def play(request: Request, pk: int) -> HttpResponse:
    """The passage and nothing else: to hear it, play along and record."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    if found.is_sealed or found.assignment.is_listening or found.waits_for is not None:
        return redirect("task", pk=pk)
    return render(request, "stand/play.html", playing_page(found, request.user, request.GET.get("step", "")))


@family
def spoken(request: Request, pk: int) -> HttpResponseBase:
    """What is to be done, said: by the teacher where they recorded it, else by the model's voice."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    assignment = found.assignment
    if found.is_sealed or not (assignment.spoken or assignment.instructions.strip()):
        raise Http404
    if assignment.spoken:
        return ranged_file(request, assignment.spoken, "audio/mp4")
    try:
        # It is read as it was written: in the language of the studio.
        language = found.student.studio.language
        key = f"spoken:{assignment.pk}:{language}:{hashlib.sha256(assignment.instructions.encode()).hexdigest()[:16]}"
        return HttpResponse(cache.get_or_set(key, lambda: say_words(assignment.instructions, language)), content_type="audio/wav")
    except CoreError as error:
        return HttpResponse(error.message, status=503, content_type="text/plain")


@family
def find_out(request: Request, pk: int) -> HttpResponse:
    """What is to be found in the notes before it is told; afterwards what was found, on the score."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    if found.is_sealed or not found.finds_out:
        return redirect("task", pk=pk)
    return render(request, "stand/find_out.html", finding_page(found, request.user))


@student_only
@require_POST
def found(request: Request, pk: int) -> HttpResponse:
    """What the student found, answered at once. Sent twice, the first counts."""
    task = _task(request, pk)
    if task.is_sealed or not task.finds_out:
        return redirect("task", pk=pk)
    try:
        finding_out.find_out(task=task, said=_answers(request, task))
    except CoreError as error:
        messages.error(request, error.message)
    return redirect("stand:find_out", pk=pk)


def _answers(request: Request, task: Task) -> Answers:
    asked = finding_out.questions_of(task)
    if "passed" in request.POST:
        return Answers()
    words = set(finding_out.count_words(asked))
    counts = {c.note_id: word for c in finding_out.to_count(asked) if (word := request.POST.get(f"count-{c.note_id}", "")) in words}
    hardest = request.POST.get("hardest", "")
    return Answers(
        key=frozenset(request.POST.getlist("key")) & frozenset(asked.pitched),
        hardest=hardest if hardest in asked.bars else None,
        counts=counts,
        tempo_bpm=read_number(request.POST.get("tempo"), TEMPO_LOW, TEMPO_HIGH),
    )


def _pair_asked(request: Request, task: Task) -> tuple[Take, Take] | None:
    """The two takes named in the address, else the last two; None where there are no two to compare."""
    takes = list(heard_takes(task))
    by_id = {take.pk: take for take in takes}
    first, second = (by_id.get(read_id(request.GET.get(name)) or 0) for name in ("a", "b"))
    if first and second and first != second:
        return first, second
    return (takes[-2], takes[-1]) if len(takes) > 1 else None


@family
def beside(request: Request, pk: int) -> HttpResponse:
    """Two takes bar by bar: the same place one after the other, equally loud."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    two = _pair_asked(request, found)
    if two is None:
        messages.info(request, worded("Two takes that were heard are needed to compare them."))
        return redirect("task", pk=pk)
    return render(request, "stand/beside.html", beside_page(found, two, request.user))


@student_only
def pair(request: Request, pk: int) -> HttpResponse:
    """The same two without their names: which was steadier? Answered afterwards by the figures of both."""
    task = _task(request, pk)
    two = opened_pair(task, request.POST.get("pair", "")) if request.method == "POST" else shuffled(_pair_asked(request, task))
    if two is None:
        messages.info(request, worded("Two takes that were heard are needed to compare them."))
        return redirect("task", pk=pk)
    answers = {name: value for name, value in request.POST.items() if value in ("0", "1", "alike")} if request.method == "POST" else None
    return render(request, "stand/pair.html", pair_page(task, two, answers, request.user))


@student_only
def pair_sound(request: Request, pk: int, which: int) -> HttpResponseBase:
    """One of the two, without its name."""
    two = opened_pair(_task(request, pk), request.GET.get("pair", ""))
    if two is None or which > 1:
        raise Http404
    return ranged_file(request, two[which].playback, "audio/mp4")


@family
@require_POST
def sounds(request: Request, pk: int) -> HttpResponse:
    """The model or the accompaniment at one of the passage's tempi; asked for again until it is rendered."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    tempo, names = read_id(request.POST.get("tempo")), "names" in request.POST
    accompaniment = "accompaniment" in request.POST and not names and "reference" not in request.POST
    if tempo not in found.tempi or tempo is None or not may_be_heard(found, accompaniment=accompaniment):
        return JsonResponse({"failed": True}, status=400)
    naming = request.user.studio.naming if names else ""
    reference = read_id(request.POST["reference"]) or 0 if "reference" in request.POST else None
    return JsonResponse(sound_data(found, Wanted(tempo=tempo, accompaniment=accompaniment, naming=naming, reference=reference)))


@student_only
@require_POST
def sound_check(request: Request, pk: int) -> HttpResponse:
    """A few seconds from the microphone, judged at once and not kept."""
    found = _task(request, pk)
    body = request.read(MOST_BYTES + 1)
    try:
        services.check_may_record(student=request.user, task=found)
        if len(body) > MOST_BYTES:
            raise AudioError("audio.too_large", worded("That was too long. A few seconds are enough."))
        heard = check_sound(body, read_clicks(request.GET.get("clicks", "")))
    except (services.TakeRefused, CoreError) as error:
        return JsonResponse({"good": False, "says": [str(error)]}, status=422)
    return JsonResponse({"good": heard.good, "says": heard.says, "late": heard.late_s})


@student_only
@require_POST
def tuning(request: Request, pk: int) -> HttpResponse:
    """A held tone against the one that was given, in cents. Nothing of it is kept."""
    task = _task(request, pk)
    midi = read_id(request.GET.get("tone"))
    if midi not in {tone for _, tone in tones_to_tune(find_instrument(task.enrolment.instrument))} or midi is None:
        return JsonResponse({"says": worded("This is no tone of your instrument. Open the page again.")}, status=400)
    body = request.read(MOST_BYTES + 1)
    try:
        services.check_may_record(student=request.user, task=task)
        if len(body) > MOST_BYTES:
            raise AudioError("audio.too_large", worded("That was too long. A few seconds are enough."))
        heard = check_tone(body, midi)
    except (services.TakeRefused, CoreError) as error:
        return JsonResponse({"says": str(error)}, status=422)
    if heard is None:
        return JsonResponse({"says": worded("This tone was not heard. Play it long and alone, near the microphone, and try again.")})
    return JsonResponse({"cents": round(heard.cents), "called": heard.called})


@anybody
def study(request: Request, pk: int) -> HttpResponse:
    """What to find out before playing, on one sheet that can be printed."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    if not request.user.is_teacher:
        if found.is_sealed:
            return redirect("task", pk=pk)
        if found.finds_out and not found.has_found_out:
            return redirect("stand:find_out", pk=pk)
        if not aids_are_open(found):
            messages.info(request, worded("The study sheet opens after you have played: reading at sight, you look for yourself."))
            return redirect("task", pk=pk)
    chosen = request.GET.getlist("layer") if "shown" in request.GET else ["key", "counting"]
    try:
        sheet, trouble = study_sheet(found, chosen, request.GET.get("naming") or naming_spoken()), ""
    except CoreError as error:
        sheet, trouble = None, error.message
    names = request.user.studio.note_names
    namings = {slug: title for slug, title in NAMINGS.items() if slug != "own" or names}
    context = {"task": found, "sheet": sheet, "trouble": trouble, "layers": LAYERS, "namings": namings, "road": road_map_of(found.passage)}
    if sheet is not None:
        context["drawings"] = sheet.drawings
    return render(request, "stand/_study.html" if request.htmx else "stand/study.html", context)


@anybody
def cards(request: Request, pk: int) -> HttpResponse:
    """Rhythm cards to print and cut out."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    if found.is_sealed and not request.user.is_teacher:
        return redirect("task", pk=pk)
    try:
        made, trouble = printed_cards(found), ""
    except CoreError as error:
        made, trouble = [], error.message
    return render(request, "stand/cards.html", {"task": found, "cards": made, "trouble": trouble})


@student_only
@require_POST
def upload_file(request: Request, pk: int) -> HttpResponse:
    """A recording sent by a plain form, for browsers without scripts."""
    task = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    file = request.FILES.get("recording")
    if file is None:
        messages.error(request, worded("Choose a recording first."))
        return redirect("task", pk=task.pk)
    try:
        take = services.receive_take(
            student=request.user,
            task=task,
            source=cast("IO[bytes]", file.file),
            filename=file.name or "take",
            step=request.POST.get("step", ""),
            own_tempo=own_tempo(task, request.POST.get("tempo")),
        )
    except services.TakeRefused as error:
        messages.error(request, str(error))
        return redirect("task", pk=task.pk)
    return redirect("stand:take", pk=take.pk)


@family
def take(request: Request, pk: int) -> HttpResponse:
    """Listen back, mark, see what was heard, submit."""
    found = get_object_or_404(Take.objects.visible_to(request.user).with_everything(), pk=pk)
    return render(request, "stand/take.html", take_page(found, request.user))


@family
def status_fragment(request: Request, pk: int) -> HttpResponse:
    """Where the hearing stands; asked for again until it is settled, then the page's content is put in its place."""
    take = get_object_or_404(Take.objects.visible_to(request.user), pk=pk)
    response = render(request, "stand/_status.html", {"take": take, "turn": turn_of(take)})
    if take.is_settled:
        page = {"path": reverse("stand:take", args=[pk]), "target": "#main", "select": "#main", "swap": "outerHTML"}
        response["HX-Location"] = json.dumps(page)
    return response


@student_only
@require_POST
def mark(request: Request, pk: int) -> HttpResponse:
    """Keep the student's own checklist, pins and the one thing to work on."""
    take = get_object_or_404(Take.objects.owned_by(request.user), pk=pk)
    try:
        words = {name: request.POST.get(name, "") for name in ("work_on", "easy", "as_meant")}
        services.review_own_take(take=take, marks=_own_marks(request, take), **words)
    except services.TakeRefused as error:
        messages.error(request, str(error))
    return redirect("stand:take", pk=pk)


def _own_marks(request: Request, take: Take) -> list[services.OwnMark]:
    marks = []
    for row in (*TITLES, *(OWN + words for words in take.task.assignment.own_rows)):
        verdict = request.POST.get(f"verdict-{row}")
        if verdict in ("good", "mend"):
            own = row.startswith(OWN)
            category, text = ("other", row.removeprefix(OWN)) if own else (row, "")
            marks.append(services.OwnMark(category=category, verdict=verdict, text=text))
    pins = zip(request.POST.getlist("pin-bar"), request.POST.getlist("pin-category"), request.POST.getlist("pin-text"), strict=False)
    for bar, category, text in pins:
        if bar.strip() and category in TITLES:
            marks.append(services.OwnMark(category=category, verdict="mend", bar=bar.strip(), text=text.strip()))
    return marks


@student_only
@require_POST
def through(request: Request, pk: int) -> HttpResponse:
    """The take was played back to its end."""
    services.heard_through(get_object_or_404(Take.objects.owned_by(request.user), pk=pk))
    return HttpResponse(status=204)


@student_only
@require_POST
def submit(request: Request, pk: int) -> HttpResponse:
    take = get_object_or_404(Take.objects.owned_by(request.user).select_related("task__assignment"), pk=pk)
    try:
        services.submit_take(take=take)
    except services.TakeRefused as error:
        messages.error(request, str(error))
        return redirect("stand:take", pk=pk)
    # Its page says that it is with the teacher.
    return redirect("task", pk=take.task_id)


@student_only
def delete(request: Request, pk: int) -> HttpResponse:
    """Ask once, then delete for good."""
    take = get_object_or_404(Take.objects.owned_by(request.user).with_everything(), pk=pk)
    if request.method != "POST":
        return render(request, "stand/delete.html", {"take": take})
    try:
        services.delete_take(student=request.user, take=take)
    except services.TakeRefused as error:
        messages.error(request, str(error))
        return redirect("stand:take", pk=pk)
    messages.success(request, worded("The take is deleted for good."))
    return redirect("task", pk=take.task_id)
