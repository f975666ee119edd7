from __future__ import annotations

from django.contrib import messages
from django.contrib.auth import authenticate, login
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from didactor.core.words import worded
from didactor.people import pictures
from didactor.people.acts import Act
from didactor.people.forms import StudioCodeForm
from didactor.people.models import Person, PictureCode
from didactor.people.permissions import teacher_only
from didactor.people.requests import Request
from didactor.people.sent_once import done


def begin(request: HttpRequest) -> HttpResponse:
    """The studio's code, typed once on a device; its page can be kept as a bookmark."""
    form = StudioCodeForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        studio = pictures.studio_of(form.cleaned_data["code"])
        if studio is not None:
            return redirect("people:pictures_of", code=studio.code)
        form.add_error("code", worded("No studio has this code. It is on the card with the pictures."))
    return render(request, "people/pictures_begin.html", {"form": form})


def names(request: HttpRequest, code: str) -> HttpResponse:
    """Who signs in with pictures in this studio."""
    studio = pictures.studio_of(code)
    if studio is None:
        return redirect("people:pictures")
    return render(request, "people/pictures_names.html", {"studio": studio, "people": pictures.who_may(studio)})


def tap(request: HttpRequest, code: str, pk: int) -> HttpResponse:
    """Four pictures, one touch after the other; with the fourth the child is in, or begins again."""
    studio = pictures.studio_of(code)
    found = next(((person, called) for person, called in pictures.who_may(studio) if person.pk == pk), None) if studio else None
    if studio is None or found is None:
        return redirect("people:pictures_of", code=code)
    person, called = found
    touched = _touched(request)
    wrong = False
    if len(touched) == pictures.CODE_OF:
        child = authenticate(request, child=person, pictures=touched, username=pictures.guess_name(request, person))
        if child is not None:
            login(request, child)
            response = redirect("home")
            pictures.remember_here(request, response, person)
            return response
        touched, wrong = [], True
    context = {"studio": studio, "called": called, "touched": touched, "empty": range(pictures.CODE_OF - len(touched)), "wrong": wrong}
    return render(request, "people/pictures_tap.html", {**context, "pictures": pictures.shown()})


def _touched(request: HttpRequest) -> list[str]:
    """What was touched so far, the last one included; nothing that is no picture of ours."""
    before = [name for name in request.POST.get("so_far", "").split() if name in pictures.PICTURES][: pictures.CODE_OF - 1]
    if "back" in request.POST:
        return before[:-1]
    picture = request.POST.get("picture", "")
    return [*before, picture] if picture in pictures.PICTURES else before


@teacher_only
def of_student(request: Request, pk: int) -> HttpResponse:
    """Give a student pictures to sign in with, take them away, or let them try again."""
    person = get_object_or_404(Person.objects.whom(request.user, Act.MAKE_CARD), pk=pk)
    trouble = ""
    if request.method == "POST":
        if "away" in request.POST:
            pictures.take_away(person)
            messages.success(request, worded("{person} signs in with the card alone.", person=person))
            return redirect("people:student", pk=pk)
        if "again" in request.POST:
            pictures.try_again(person)
            messages.success(request, worded("{person} can try on any device again.", person=person))
            return redirect("people:pictures_of_student", pk=pk)
        try:
            chosen = [] if "any" in request.POST else request.POST.getlist("picture")
            card = card_with_pictures(request, person, chosen)
        except ValueError as error:
            trouble = str(error)
        else:
            return done(render(request, "people/cards.html", {"students": [person], "cards": [card]}), leads_to=request.path)
    context = {
        "person": person,
        "given": PictureCode.objects.filter(person=person).first(),
        "stopped": pictures.stopped_elsewhere(person),
        "pictures": pictures.shown(),
        "places": range(1, pictures.CODE_OF + 1),
        "trouble": trouble,
    }
    return render(request, "people/pictures_of_student.html", context, status=422 if trouble else 200)


def card_with_pictures(request: Request, person: Person, chosen: list[str]) -> dict[str, object]:
    """A student's new pictures as their printed card shows them. Raises ``ValueError``."""
    given = pictures.give(person=person, chosen=chosen)
    code = pictures.studio_code(person.studio)
    link = request.build_absolute_uri(reverse("people:pictures_of", args=[person.studio.code]))
    shown = [(pictures.PICTURE_NAMES[name], pictures.PICTURES[name]) for name in given]
    return {"person": person, "student": person, "code": code, "link": link, "pictures": shown}


@teacher_only
@require_POST
def new_studio_code(request: Request) -> HttpResponse:
    """Another code for the studio, where the old one got about; the pictures stay."""
    if not request.user.is_owner:
        raise Http404
    pictures.studio_code(request.user.studio, anew=True)
    messages.success(request, worded("The old code opens nothing any more. The pictures stay as they are."))
    return redirect("people:account")
