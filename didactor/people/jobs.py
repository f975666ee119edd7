from __future__ import annotations

from django.conf import settings
from django.contrib.auth.tokens import default_token_generator
from django.core.mail import send_mail
from django.template.loader import render_to_string
from django.urls import reverse
from django.utils.encoding import force_bytes
from django.utils.http import urlsafe_base64_encode
from procrastinate.contrib.django import app

from didactor.core.words import _, worded
from didactor.people.languages import in_words_of
from didactor.people.models import Person

#: What is told of an account that changed, by what did.
CHANGED = {
    "address": _("The e-mail address of your account was changed. Letters, also about a forgotten password, go to the new one."),
    "password": _("The password of your account was changed. Everywhere else you are signed out."),
}


@app.task(queue="default", priority=10, retry=3)
def tell_of_change(person_id: int, address: str, what: str) -> None:
    """A letter to an address that an account has, or had, so that nothing of it changes unnoticed."""
    person = Person.objects.filter(pk=person_id).first()
    if person is None or what not in CHANGED:
        return
    with in_words_of(person):
        body = render_to_string("people/changed_letter.txt", {"person": person, "what": CHANGED[what], "address": settings.ADDRESS})
        send_mail(worded("Didactor: your account"), body, None, [address])


@app.task(queue="default", priority=10, retry=3)
def send_reset(person_id: int) -> None:
    """The letter with a link to choose a new password. The link is made here: the queue holds nothing that opens anything."""
    person = Person.objects.filter(pk=person_id, is_active=True).exclude(email="").first()
    if person is None:
        return
    key = urlsafe_base64_encode(force_bytes(person.pk))
    path = reverse("people:choose_password", args=[key, default_token_generator.make_token(person)])
    with in_words_of(person):
        body = render_to_string("people/reset_letter.txt", {"person": person, "link": f"{settings.ADDRESS}{path}"})
        send_mail(worded("Didactor: a new password"), body, None, [person.email])
