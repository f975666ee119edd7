from __future__ import annotations

from django.conf import settings
from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.csrf import csrf_exempt

from didactor.core.words import worded
from didactor.letters.forms import LettersForm
from didactor.letters.models import Choice, Letter
from didactor.letters.services import choose, want_no_more
from didactor.letters.writing import read_stop_key
from didactor.people.accounts import AccountRefused
from didactor.people.acts import Act
from didactor.people.models import Person
from didactor.people.permissions import anybody, teacher_only
from didactor.people.requests import Request

#: Letters on the page.
SHOWN = 100


@anybody
def own(request: Request) -> HttpResponse:
    """Where letters go, and which are wanted."""
    return _choose(request, request.user)


@teacher_only
def of_person(request: Request, pk: int) -> HttpResponse:
    """The same for a student or a guardian, when they ask for it."""
    return _choose(request, get_object_or_404(Person.objects.whom(request.user, Act.CHOOSE_LETTERS), pk=pk))


def _choose(request: Request, person: Person) -> HttpResponse:
    choice = Choice.objects.filter(person=person).first()
    refused = choice.not_wanted if choice else []
    form = LettersForm(request.POST or None, person=person, actor=request.user)
    form.initial = {"address": person.email, "wanted": [kind for kind, _ in form.fields["wanted"].choices if kind not in refused]}  # type: ignore[attr-defined]
    if request.method == "POST" and form.is_valid() and _kept(request, person, form):
        person.refresh_from_db()
        messages.success(request, worded("Kept.") if person.email else worded("Kept: no letters are sent without an address."))
        return redirect(request.path)
    context = {"form": form, "person": person, "readers": person.guardians.all() if person.is_minor else []}
    return render(request, "letters/choose.html", context, status=422 if form.errors else 200)


def _kept(request: Request, person: Person, form: LettersForm) -> bool:
    data = form.cleaned_data
    try:
        choose(
            actor=request.user,
            person=person,
            address=data.get("address", person.email),
            wanted=data["wanted"],
            password=data.get("password", ""),
        )
    except AccountRefused as error:
        form.add_error("password", str(error))
        return False
    return True


@teacher_only
def mailbox(request: Request) -> HttpResponse:
    """What went out, or waits to; where no mail server is set it stays here."""
    letters = Letter.objects.visible_to(request.user).select_related("person")[:SHOWN]
    return render(request, "letters/mailbox.html", {"letters": letters, "stays": not settings.MAIL_HOST})


@csrf_exempt
def stop(request: HttpRequest, key: str) -> HttpResponse:
    """Ends one kind of letters for whoever has one of them. It asks first, so that a mail program that opens links ends nothing; mail
    programs that offer it themselves post here.
    """
    known = read_stop_key(key)
    person = Person.objects.filter(pk=known[0]).first() if known else None
    if known is None or person is None:
        raise Http404
    if request.method == "POST":
        want_no_more(person=person, kind=known[1])
    return render(request, "letters/stop.html", {"kind": known[1], "done": request.method == "POST"})
