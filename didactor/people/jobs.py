from __future__ import annotations

from django.conf import settings
from django.contrib.auth.tokens import default_token_generator
from django.core.mail import send_mail
from django.template.loader import render_to_string
from django.urls import reverse
from django.utils.encoding import force_bytes
from django.utils.http import urlsafe_base64_encode
from procrastinate.contrib.django import app

from didactor.core.words import worded
from didactor.people.languages import in_words_of
from didactor.people.models import Person


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
