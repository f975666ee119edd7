"""Times to be heard live: offered by teachers, chosen by families."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from didactor.assignments import slots
from didactor.assignments.forms import SlotForm
from didactor.assignments.models import Slot
from didactor.core.words import counted, worded
from didactor.people.models import Enrolment
from didactor.people.permissions import family, teacher_only
from didactor.people.requests import Request
from didactor.web.numbers import read_id


@teacher_only
def index(request: Request) -> HttpResponse:
    """What is offered and who has chosen what; and more of it."""
    form = SlotForm(request.POST or None, teacher=request.user)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            made = slots.offer(teacher=request.user, **data)
        except slots.SlotRefused as error:
            form.add_error(None, str(error))
        else:
            messages.success(request, counted("{count} time offered.", "{count} times offered.", made))
            return redirect("assignments:slots")
    context = {"form": form, "slots": Slot.objects.visible_to(request.user).to_come()[:200]}
    return render(request, "assignments/slots.html", context, status=422 if form.errors else 200)


@teacher_only
@require_POST
def withdraw(request: Request, pk: int) -> HttpResponse:
    """A time that is not offered any more. Whoever had chosen it is named, so that they can be told."""
    found = get_object_or_404(Slot.objects.visible_to(request.user).select_related("enrolment__student"), pk=pk)
    said = (
        worded("{time} is not offered any more. {student} had chosen it: tell them.", time=found, student=found.enrolment.student)
        if found.enrolment
        else worded("{time} is not offered any more.", time=found)
    )
    found.delete()
    messages.success(request, said)
    return redirect("assignments:slots")


@family
@require_POST
def choose(request: Request, pk: int) -> HttpResponse:
    """Take a time, or give it back."""
    found = get_object_or_404(Slot.objects.visible_to(request.user), pk=pk)
    own = Enrolment.objects.visible_to(request.user).active()
    if "back" in request.POST:
        if found.enrolment_id in set(own.values_list("pk", flat=True)):
            slots.give_back(found)
            messages.success(request, worded("The time is free again."))
        return redirect("home")
    # Who has one instrument need not say for which.
    chosen = read_id(request.POST.get("enrolment")) or (own[0].pk if own.count() == 1 else 0)
    enrolment = get_object_or_404(own, pk=chosen)
    if found.group_id not in (None, enrolment.group_id):
        messages.error(request, worded("This time is for another group."))
        return redirect("home")
    try:
        messages.success(request, worded("You are heard on {choose}.", choose=slots.choose(slot=found, enrolment=enrolment)))
    except slots.SlotRefused as error:
        messages.error(request, str(error))
    return redirect("home")
