from __future__ import annotations

from django.http import Http404, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render

from didactor.archive.asking import ask
from didactor.archive.models import PersonCopy
from didactor.archive.of_person import KEPT_FOR
from didactor.people.acts import Act
from didactor.people.models import Person
from didactor.people.permissions import anybody
from didactor.people.requests import Request
from didactor.web.ranges import ranged_file


def _person(request: Request, pk: int) -> Person:
    found: Person = get_object_or_404(Person.objects.whom(request.user, Act.COPY), pk=pk)
    return found


@anybody
def copy_of(request: Request, pk: int) -> HttpResponse:
    """All that is kept of a person as one file: asked for, being made, fetched."""
    person = _person(request, pk)
    if request.method == "POST":
        ask(person=person, asked_by=request.user)
        return redirect("copy_of", pk=pk)
    context = {"person": person, "copy": PersonCopy.objects.filter(person=person).first(), "days": KEPT_FOR.days}
    # A part that asks again while the file is made, or the page.
    return render(request, "archive/_copy.html" if request.htmx else "archive/copy_of.html", context)


@anybody
def copy_file(request: Request, pk: int) -> HttpResponseBase:
    copy = PersonCopy.objects.filter(person=_person(request, pk)).exclude(file="").first()
    if copy is None:
        raise Http404
    response = ranged_file(request, copy.file, "application/zip")
    response["Content-Disposition"] = f'attachment; filename="didactor-{copy.asked_at:%Y-%m-%d}.zip"'
    return response
