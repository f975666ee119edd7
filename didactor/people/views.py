from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib import messages
from django.contrib.auth import authenticate, login, logout
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.formats import date_format
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_POST

from didactor.core.words import _, counted, worded
from didactor.people import second_factor, services
from didactor.people.account_views import ask_for_second
from didactor.people.accounts import may_found
from didactor.people.acts import Act
from didactor.people.context import PAPERS
from didactor.people.forms import (
    CardForm,
    ConsentForm,
    EnrolmentForm,
    GroupCardsForm,
    GuardianForm,
    NameForm,
    NoteNamesForm,
    PasswordForm,
    PerformanceForm,
    RollForm,
    StudentForm,
)
from didactor.people.languages import CHOICES
from didactor.people.models import Consent, ConsentKind, Group, Person, SignInCard, Studio
from didactor.people.permissions import guardian_only, teacher_only
from didactor.people.picture_views import card_with_pictures
from didactor.people.pictures import remember_here
from didactor.people.requests import Request
from didactor.people.roll import heading_of, read_roll
from didactor.people.sent_once import done
from didactor.web.numbers import read_id


def sign_in(request: HttpRequest) -> HttpResponse:
    """Students and guardians with the code of their card, teachers with a password."""
    if not Studio.objects.exists():
        return redirect("people:found")
    card, password = CardForm(prefix="card"), PasswordForm(prefix="teacher")
    if request.method == "POST":
        by_card = "card-code" in request.POST
        if by_card:
            card = CardForm(request.POST, prefix="card")
        else:
            password = PasswordForm(request.POST, prefix="teacher")
        form: CardForm | PasswordForm = card if by_card else password
        if form.is_valid():
            person = _authenticate(request, form.cleaned_data, by_card)
            if person is not None and not by_card and second_factor.is_on(person):
                return ask_for_second(request, person, _next(request))
            if person is not None:
                login(request, person)
                return _on_own_device(request, person, _next(request))
            form.add_error(
                None,
                worded("No card has this code. Check it letter by letter, or ask your teacher for a new card.")
                if by_card
                else worded("Name and password do not match."),
            )
    return render(request, "people/sign_in.html", {"card": card, "password": password, "may_found": may_found()})


def _on_own_device(request: HttpRequest, person: Person, to: str) -> HttpResponse:
    """On; a student who came in by the card has shown that this device is theirs."""
    response = redirect(to)
    if person.is_student:
        remember_here(request, response, person)
    return response


def _authenticate(request: HttpRequest, data: dict[str, str], by_card: bool) -> Person | None:
    if by_card:
        return authenticate(request, card_code=data["code"], username=services.guess_name(data["code"]))
    return authenticate(request, username=data["username"], password=data["password"])


def _next(request: HttpRequest) -> str:
    return _of_this_site(request, request.GET.get("next", "")) or reverse("home")


def _of_this_site(request: HttpRequest, target: str) -> str:
    """A path to go on to, if it is one of this site; else nothing."""
    ours = target.startswith("/") and url_has_allowed_host_and_scheme(target, {request.get_host()}, require_https=request.is_secure())
    return target if ours else ""


def open_card(request: HttpRequest, code: str) -> HttpResponse:
    """A card's link. It asks before signing in, so that a mail program that opens links signs nobody in."""
    person = Person.objects.filter(card__code_hash=services.hash_code(code), is_active=True).first()
    if request.method == "POST" and person is not None:
        signed_in = authenticate(request, card_code=code, username=services.guess_name(code))
        if signed_in is not None:
            login(request, signed_in)
            return _on_own_device(request, signed_in, reverse("home"))
    return render(request, "people/open_card.html", {"person": person, "code": code}, status=200 if person else 404)


@require_POST
def sign_out(request: HttpRequest) -> HttpResponse:
    logout(request)
    return redirect("people:sign_in")


@require_POST
def choose_paper(request: HttpRequest) -> HttpResponse:
    """Light paper, dark paper, or as the device says."""
    response = redirect(_of_this_site(request, request.POST.get("next", "")) or "/")
    paper = request.POST.get("paper", "auto")
    if paper in PAPERS:
        response.set_cookie("paper", paper, max_age=60 * 60 * 24 * 365, samesite="Lax")
    return response


@require_POST
def choose_language(request: HttpRequest) -> HttpResponse:
    """The language of all pages from now on, for whoever is signed in on every device; the owner's is that of the studio."""
    response = redirect(_of_this_site(request, request.POST.get("next", "")) or "/")
    language = request.POST.get("language", "")
    if language in CHOICES:
        response.set_cookie(settings.LANGUAGE_COOKIE_NAME, language, max_age=60 * 60 * 24 * 365, samesite="Lax")
        if request.user.is_authenticated:
            Person.objects.filter(pk=request.user.pk).update(language=language)
            Studio.objects.filter(people=request.user.pk, people__is_owner=True).update(language=language)
    return response


@teacher_only
def students(request: Request) -> HttpResponse:
    people = Person.objects.visible_to(request.user).students().prefetch_related("enrolments__group")
    groups = list(Group.objects.visible_to(request.user).order_by("name"))
    cards, performance = GroupCardsForm(studio=request.user.studio), PerformanceForm(studio=request.user.studio, prefix="performance")
    for form in (cards, performance):
        form.fields["group"].choices = [(group.pk, group.name) for group in groups]  # type: ignore[attr-defined]
    given = Consent.objects.filter(student__in=people, kind=ConsentKind.SOUND, withdrawn_at=None)
    consented = set(given.values_list("student_id", flat=True))
    context = {
        "people": people,
        "has_cards": _with_cards(people),
        "consented": consented,
        "cards": cards,
        "groups": groups,
        "performance": performance,
        "performing": sorted((g for g in groups if g.performs_on and g.performs_on >= timezone.localdate()), key=lambda g: g.performs_on),
    }
    return render(request, "people/students.html", context)


def _with_cards(people: Any) -> set[int]:
    return set(SignInCard.objects.filter(person__in=people).values_list("person_id", flat=True))


@teacher_only
def add_student(request: Request) -> HttpResponse:
    form = StudentForm(request.POST or None, studio=request.user.studio)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        enrolment = services.add_student(
            studio=request.user.studio,
            name=data["name"],
            instrument=data["instrument"],
            level=data["level"],
            group_name=data["group"],
            is_minor=data["is_minor"],
            guardian=data["guardian"],
        )
        messages.success(request, worded("{student} is added. Print the card or copy the link now.", student=enrolment.student))
        return _cards(request, [enrolment.student], reverse("people:student", args=[enrolment.student_id]))
    return render(request, "people/add_student.html", {"form": form})


@teacher_only
def add_roll(request: Request) -> HttpResponse:
    """A whole class from a list: looked at first, then added with a card for each."""
    studio = request.user.studio
    form = RollForm(request.POST or None, request.FILES or None)
    context: dict[str, Any] = {"form": form, "group_names": Group.objects.filter(studio=studio).values_list("name", flat=True)}
    if request.method != "POST" or not form.is_valid():
        return render(request, "people/add_roll.html", context)
    text, group = form.cleaned_data["text"], form.cleaned_data["group"]
    rows = read_roll(text, studio, group)
    if "add" not in request.POST:
        # What was read goes back into the field, a file's text too: the second form sends that.
        again = RollForm(initial={"text": text, "group": group})
        return render(request, "people/add_roll.html", {**context, "form": again, "rows": rows, "new": sum(row.is_new for row in rows)})
    added, more = services.add_roll(studio=studio, rows=rows)
    left = [row for row in rows if row.problem]
    if more:
        messages.success(request, worded("Another instrument: ") + ", ".join(str(enrolment) for enrolment in more) + ".")
    if not added:
        if not more:
            messages.info(request, worded("Nobody new was in the list."))
        return redirect("people:students")
    messages.success(
        request,
        counted(
            "1 student is added. Print the cards now: they are shown this once.",
            "{count} students are added. Print the cards now: they are shown this once.",
            len(added),
        ),
    )
    unread = "\n".join(filter(None, [heading_of(text), *(row.line for row in left)])) if left else ""
    return _cards(request, added, reverse("people:students"), left=left, unread=unread, group=group)


@teacher_only
@require_POST
def group_cards(request: Request) -> HttpResponse:
    """New cards for a whole group; or for those of it who have none."""
    form = GroupCardsForm(request.POST, studio=request.user.studio)
    if not form.is_valid():
        messages.error(request, worded("Choose a group first."))
        return redirect("people:students")
    people = Person.objects.whom(request.user, Act.MAKE_CARD).filter(enrolments__group=form.cleaned_data["group"]).distinct()
    with_pictures = form.cleaned_data["kind"] == "pictures"
    if form.cleaned_data["whose"] == "without":
        people = people.filter(picture_code=None) if with_pictures else people.filter(card=None)
    chosen = list(people.select_related("studio").prefetch_related("guardians"))
    if not chosen:
        messages.info(
            request,
            (worded("Everybody there has pictures.") if with_pictures else worded("Everybody there has a card."))
            if form.cleaned_data["whose"] == "without"
            else worded("Nobody is in that group."),
        )
        return redirect("people:students")
    if with_pictures:
        cards = [card_with_pictures(request, person, []) for person in chosen]
        return done(render(request, "people/cards.html", {"students": chosen, "cards": cards}), leads_to=reverse("people:students"))
    return _cards(request, chosen, reverse("people:students"))


@teacher_only
@require_POST
def performance(request: Request) -> HttpResponse:
    """The day of a group's next performance: practice is planned towards it."""
    form = PerformanceForm(request.POST, studio=request.user.studio, prefix="performance")
    if not form.is_valid():
        messages.error(request, worded("Choose a group, and a day or none."))
        return redirect("people:students")
    group, day = form.cleaned_data["group"], form.cleaned_data["on"]
    services.set_performance(group=group, day=day)
    messages.success(
        request,
        worded("{group} performs on {day}: practice is planned towards it.", group=group, day=date_format(day, worded("l j F")))
        if day
        else worded("{group} has no day fixed.", group=group),
    )
    return redirect("people:students")


def _cards(request: Request, students: list[Person], leads_to: str, **more: Any) -> HttpResponse:
    """New cards for students and their guardians, to print or copy. The codes are shown this once."""
    cards = []
    for student in students:
        for person in [student, *student.guardians.all()]:
            code = services.make_card(person)
            link = request.build_absolute_uri(reverse("people:open_card", args=[code]))
            cards.append({"person": person, "student": student, "code": code, "link": link})
    page = render(request, "people/cards.html", {"students": students, "cards": cards, **more})
    return done(page, leads_to=leads_to)


@teacher_only
def student(request: Request, pk: int) -> HttpResponse:
    """One student: cards, consent, instruments."""
    seen = Person.objects.whom(request.user, Act.CHANGE_PERSON).select_related("studio").prefetch_related("enrolments__group")
    person = get_object_or_404(seen, pk=pk)
    # Four forms share the page; each is bound only when its own field was sent.
    consent = ConsentForm(request.POST if "given_by" in request.POST else None)
    enrolment = EnrolmentForm(request.POST if "instrument" in request.POST else None)
    guardian = GuardianForm(request.POST if "name" in request.POST else None)
    who = NameForm(request.POST if "called" in request.POST else None, initial=_called(person))
    if consent.is_valid():
        services.record_consent(
            student=person,
            given_by=consent.cleaned_data["given_by"],
            recorded_by=request.user,
            kind=consent.cleaned_data["kind"] or ConsentKind.SOUND,
        )
        messages.success(request, worded("Consent of {cleaned_data} is recorded.", cleaned_data=consent.cleaned_data["given_by"]))
    elif enrolment.is_valid():
        data = enrolment.cleaned_data
        services.enrol(student=person, instrument=data["instrument"], level=data["level"], group_name=data["group"])
        messages.success(request, worded("Kept."))
    elif guardian.is_valid():
        services.add_guardian(student=person, name=guardian.cleaned_data["name"])
        messages.success(request, worded("The guardian is added. Make new cards to give them theirs."))
    elif who.is_valid():
        data = who.cleaned_data
        services.change_student(student=person, name=data["called"], is_minor=data["is_minor"], reads_notes=not data["no_notes_yet"])
        messages.success(request, worded("Kept."))
    else:
        forms = {"form": consent, "enrolment_form": enrolment, "guardian_form": guardian, "name_form": who}
        return render(request, "people/student.html", {**_student_page(request, person), **forms})
    return redirect("people:student", pk=pk)


def _called(person: Person) -> dict[str, Any]:
    """What the form of a student's name begins with."""
    return {"called": person.name, "is_minor": person.is_minor, "no_notes_yet": not all(e.reads_notes for e in person.enrolments.all())}


def _student_page(request: Request, person: Person) -> dict[str, Any]:
    return {
        "person": person,
        "group_names": Group.objects.filter(studio=person.studio).values_list("name", flat=True),
        "kinds": [
            (kind, title, services.given(person, kind), services.WORDINGS[ConsentKind(kind)])
            for kind, title in ConsentKind.choices
            # Who is of age is asked for one kind alone.
            if person.is_minor or kind == ConsentKind.TOGETHER
        ],
    }


@teacher_only
@require_POST
def leave(request: Request, pk: int) -> HttpResponse:
    person = get_object_or_404(Person.objects.whom(request.user, Act.LET_GO).students(), pk=pk)
    services.leave(student=person)
    messages.success(request, worded("{person} has left: no sign-in and no new work. The recordings are kept.", person=person))
    return redirect("people:students")


@teacher_only
@require_POST
def new_card(request: Request, pk: int) -> HttpResponse:
    person = get_object_or_404(Person.objects.whom(request.user, Act.MAKE_CARD), pk=pk)
    return _cards(request, [person], reverse("people:student", args=[person.pk]))


@teacher_only
@require_POST
def withdraw_consent(request: Request, pk: int) -> HttpResponse:
    person = get_object_or_404(Person.objects.whom(request.user, Act.CONSENT), pk=pk)
    kind = request.POST.get("kind", "")
    services.withdraw_consent(student=person, kind=kind if kind in ConsentKind.values else "")
    if kind == ConsentKind.TOGETHER:
        messages.success(request, worded("Consent is withdrawn: recordings of all together that they are in cannot be heard any more."))
    else:
        messages.success(request, worded("Consent is withdrawn. Nothing more of it can be recorded until it is given again."))
    return redirect("people:student", pk=pk)


@guardian_only
def consent(request: Request) -> HttpResponse:
    """What a guardian agrees to for their wards, given and withdrawn by themselves."""
    wards = Person.objects.whom(request.user, Act.CONSENT).order_by("name")
    if request.method == "POST":
        ward = get_object_or_404(wards.filter(is_minor=True), pk=read_id(request.POST.get("ward", "")) or 0)
        kind = request.POST.get("kind", "")
        if kind not in ConsentKind.values:
            raise Http404
        if "not" in request.POST:
            services.withdraw_consent(student=ward, kind=kind)
            messages.success(request, worded("Withdrawn for {ward}. {withdrawn}", ward=ward, withdrawn=WITHDRAWN[ConsentKind(kind)]))
        elif not ward.has_consent(kind):
            services.record_consent(student=ward, given_by=request.user.name, recorded_by=request.user, kind=kind)
            messages.success(request, worded("Thank you: it holds for {ward} from now on.", ward=ward))
        return redirect("people:consent")
    asked = [
        (ward, [(kind, title, services.given(ward, kind), services.WORDINGS[ConsentKind(kind)]) for kind, title in ConsentKind.choices])
        for ward in wards
        if ward.is_minor
    ]
    return render(request, "people/consent.html", {"asked": asked})


#: What withdrawing does, by kind.
WITHDRAWN = {
    ConsentKind.SOUND: _("Nothing more can be recorded. What was recorded is kept until you or the studio ask for its deletion."),
    ConsentKind.PICTURE: _("Nothing more can be filmed; sound alone stays possible."),
    ConsentKind.TOGETHER: _("Recordings of all together that they are in cannot be heard any more."),
}


@teacher_only
def note_names(request: Request) -> HttpResponse:
    """Friendly names of notes and words to count with, for the study sheets."""
    studio = request.user.studio
    kept = {
        "naming": studio.note_naming,
        "values": "crotchets" if studio.crotchets else "quarters",
        **studio.note_names,
        **{f"count_{word}": said for word, said in studio.counting_words.items()},
        **{f"tone_{letter}": tone for letter, tone in studio.note_colours.items()},
    }
    form = NoteNamesForm(request.POST or None, initial=kept)
    if request.method == "POST" and form.is_valid():
        studio.note_names, studio.counting_words, studio.note_colours = form.names, form.counting_words, form.colours
        studio.note_naming, studio.crotchets = form.cleaned_data["naming"], form.cleaned_data["values"] == "crotchets"
        studio.save(update_fields=["note_names", "counting_words", "note_colours", "note_naming", "crotchets"])
        messages.success(request, worded("The words are kept. Students find them in remarks and on their study sheets."))
        return redirect("people:students")
    return render(request, "people/note_names.html", {"form": form})
