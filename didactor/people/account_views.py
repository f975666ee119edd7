from __future__ import annotations

import time
from base64 import b32encode
from typing import Any

from django.contrib import messages
from django.contrib.auth import login, password_validation, update_session_auth_hash
from django.contrib.auth.views import PasswordResetConfirmView
from django.core.exceptions import ValidationError
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse, reverse_lazy
from django.views.decorators.http import require_POST

from didactor.core.words import worded
from didactor.people import accounts, second_factor
from didactor.people.forms import (
    AddressForm,
    ChangePasswordForm,
    ChoosePasswordForm,
    CodeForm,
    InvitationForm,
    KeepForm,
    StudioForm,
    TeacherForm,
)
from didactor.people.models import Person, Role
from didactor.people.permissions import teacher_only
from didactor.people.pictures import studio_code
from didactor.people.requests import Request
from didactor.people.sent_once import done
from didactor.people.sessions import end_one, sessions_of
from didactor.web.numbers import read_id

BY_PASSWORD = "didactor.people.backends.PasswordBackend"


#: So long after the password the second factor may come, seconds.
SECOND_WITHIN_S = 600


def ask_for_second(request: HttpRequest, person: Person, leads_to: str) -> HttpResponse:
    """The password was right: nobody is signed in before the code is, too."""
    request.session["second"] = {"person": person.pk, "until": time.time() + SECOND_WITHIN_S, "leads_to": leads_to}
    return redirect("people:second")


def second(request: HttpRequest) -> HttpResponse:
    """The code of the second factor."""
    asked = request.session.get("second") or {}
    person = Person.objects.filter(pk=asked.get("person"), is_active=True).first()
    if person is None or asked["until"] < time.time():
        return redirect("people:sign_in")
    form = CodeForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        if second_factor.is_right(person, form.cleaned_data["code"]):
            del request.session["second"]
            login(request, person, backend=BY_PASSWORD)
            return redirect(asked["leads_to"])
        form.add_error("code", worded("This is not the code of now. Wait for the next one and try again, a little later each time."))
    return render(request, "people/second.html", {"form": form})


@teacher_only
def set_up_second(request: Request) -> HttpResponse:
    """Turn a second factor on, or off with the password."""
    person, codes = request.user, []
    form = CodeForm(request.POST if "code" in request.POST else None)
    if request.method == "POST" and "off" in request.POST:
        if person.check_password(request.POST.get("password", "")):
            second_factor.turn_off(person)
            messages.success(request, worded("The password alone signs you in again."))
        else:
            messages.error(request, worded("This is not your password: the second factor stays."))
        return redirect("people:set_up_second")
    if form.is_bound and form.is_valid():
        codes = second_factor.turn_on(person, form.cleaned_data["code"])
        if not codes:
            form.add_error("code", worded("This is not the code of now. Is the clock of your telephone right?"))
    on = second_factor.is_on(person)
    context: dict[str, Any] = {"form": form, "codes": codes, "on": on}
    if not on:
        device = second_factor.begun(person)
        context |= {"picture": second_factor.picture_of(device), "secret": b32encode(device.bin_key).decode()}
    page = render(request, "people/set_up_second.html", context)
    return done(page, leads_to=reverse("people:set_up_second")) if codes else page


def found(request: HttpRequest) -> HttpResponse:
    """A new studio, where one may be founded."""
    if not accounts.may_found():
        return redirect("people:sign_in")
    form = StudioForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            owner = accounts.found_studio(**form.cleaned_data)
        except accounts.AccountRefused as error:
            form.add_error(None, str(error))
        else:
            login(request, owner, backend=BY_PASSWORD)
            return redirect("home")
    return render(request, "people/found.html", {"form": form})


def join(request: HttpRequest, token: str) -> HttpResponse:
    """An invitation's link: a colleague becomes a teacher of the studio."""
    invitation = accounts.invitation_of(token)
    if invitation is None:
        return render(request, "people/join.html", {}, status=404)
    form = TeacherForm(request.POST or None, initial={"name": invitation.name})
    if request.method == "POST" and form.is_valid():
        try:
            person = accounts.accept(token=token, **form.cleaned_data)
        except accounts.AccountRefused as error:
            form.add_error(None, str(error))
        else:
            login(request, person, backend=BY_PASSWORD)
            return redirect("home")
    return render(request, "people/join.html", {"form": form, "invitation": invitation})


@teacher_only
def account(request: Request) -> HttpResponse:
    """One's own password and sessions, and who teaches in the studio."""
    person = request.user
    password = ChangePasswordForm(request.POST if "new" in request.POST else None)
    invitation = InvitationForm(request.POST if "invited" in request.POST else None)
    if password.is_bound and password.is_valid() and _changed(request, password):
        messages.success(request, worded("The new password holds. Everywhere else you are signed out."))
        return redirect("people:account")
    link = ""
    if invitation.is_valid():
        try:
            token = accounts.invite(owner=person, name=invitation.cleaned_data["invited"])
        except accounts.AccountRefused as error:
            raise Http404 from error
        link = request.build_absolute_uri(reverse("people:join", args=[token]))
    studio = person.studio
    context: dict[str, Any] = {
        "password": password,
        "invitation": InvitationForm() if link else invitation,
        "link": link,
        "keep": KeepForm(initial={"keep": studio.keep_months}),
        "second": second_factor.is_on(person),
        "sessions": sessions_of(person),
        "studio_code": studio_code(studio) if studio.code else "",
        "invited": invitation.cleaned_data["invited"] if link else "",
        "teachers": studio.people.filter(role=Role.TEACHER, is_active=True).order_by("name"),
        "open_invitations": studio.invitations.filter(used_at=None) if person.is_owner else (),
    }
    page = render(request, "people/account.html", context)
    return done(page, leads_to=reverse("people:account")) if link else page


def _changed(request: Request, form: ChangePasswordForm) -> bool:
    person = request.user
    if not person.check_password(form.cleaned_data["old"]):
        form.add_error("old", worded("This is not your password."))
        return False
    try:
        password_validation.validate_password(form.cleaned_data["new"], person)
    except ValidationError as error:
        form.add_error("new", error)
        return False
    accounts.change_password(person=person, new=form.cleaned_data["new"])
    update_session_auth_hash(request, person)
    return True


@teacher_only
@require_POST
def colleagues(request: Request) -> HttpResponse:
    """An invitation taken back, or a colleague who leaves."""
    if not request.user.is_owner:
        raise Http404
    invitation, colleague = read_id(request.POST.get("invitation", "")), read_id(request.POST.get("colleague", ""))
    if invitation is not None:
        accounts.take_back(owner=request.user, number=invitation)
        messages.success(request, worded("The invitation opens nothing any more."))
    if colleague is not None:
        left = accounts.let_go(owner=request.user, number=colleague)
        if left is not None:
            messages.success(request, worded("{left} has left: no sign-in any more. What they gave and answered stays.", left=left))
    return redirect("people:account")


@teacher_only
@require_POST
def keep(request: Request) -> HttpResponse:
    """How long the studio's recordings are kept; the owner decides."""
    form = KeepForm(request.POST)
    if not request.user.is_owner or not form.is_valid():
        raise Http404
    studio = request.user.studio
    studio.keep_months = form.cleaned_data["keep"]
    studio.save(update_fields=["keep_months"])
    messages.success(request, worded("Kept.") if studio.keep_months is None else worded("Kept: what is older goes tonight."))
    return redirect("people:account")


@teacher_only
@require_POST
def end_session(request: Request) -> HttpResponse:
    """One session ends; one's own by signing out."""
    if end_one(request.user, request.POST.get("since", "")):
        messages.success(request, worded("That device is signed out."))
    return redirect("people:account")


@teacher_only
@require_POST
def hand_on(request: Request) -> HttpResponse:
    """The studio gets another owner; who was it goes on as a teacher."""
    if not request.user.is_owner:
        raise Http404
    try:
        heir = accounts.hand_on(owner=request.user, number=read_id(request.POST.get("heir", "")), password=request.POST.get("password", ""))
        messages.success(request, worded("{heir} decides about the studio now.", heir=heir))
    except accounts.AccountRefused as error:
        messages.error(request, str(error))
    return redirect("people:account")


@teacher_only
@require_POST
def sign_out_everywhere(request: Request) -> HttpResponse:
    """Every other session ends."""
    accounts.end_sessions(request.user)
    update_session_auth_hash(request, request.user)
    messages.success(request, worded("Everywhere else you are signed out."))
    return redirect("people:account")


def forgotten(request: HttpRequest) -> HttpResponse:
    """A letter with a link to choose a new password. Whether there is such a teacher is not told."""
    form = AddressForm(request.POST or None)
    sent = request.method == "POST" and form.is_valid()
    if sent:
        accounts.ask_for_reset(email=form.cleaned_data["email"])
    return render(request, "people/forgotten.html", {"form": form, "sent": sent})


class ChoosePassword(PasswordResetConfirmView):
    """The link of that letter, once and for two hours."""

    template_name = "people/choose_password.html"
    form_class = ChoosePasswordForm
    success_url = reverse_lazy("people:sign_in")

    def form_valid(self, form: Any) -> HttpResponse:
        answer = super().form_valid(form)
        messages.success(self.request, worded("The new password holds. Sign in with it."))
        return answer
