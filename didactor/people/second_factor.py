"""A second factor for teachers: a code that an app on their telephone shows (TOTP, RFC 6238), and codes on paper for when it is lost."""

from __future__ import annotations

import secrets

import segno
from django.db import transaction
from django_otp import match_token
from django_otp.plugins.otp_static.models import StaticDevice, StaticToken
from django_otp.plugins.otp_totp.models import TOTPDevice

from didactor.people.models import Person

ON_PAPER = 8


def is_on(person: Person) -> bool:
    """Whether this person signs in with a second factor."""
    found: bool = TOTPDevice.objects.filter(user=person, confirmed=True).exists()
    return found


def begun(person: Person) -> TOTPDevice:
    """The secret that an app is to be given, until it has shown a right code; asked again it is the same."""
    device, _ = TOTPDevice.objects.get_or_create(user=person, confirmed=False, defaults={"name": "telephone"})
    return device


def picture_of(device: TOTPDevice) -> str:
    """The secret as a picture that the app reads, an address for ``img``."""
    address: str = segno.make(device.config_url).svg_data_uri(scale=4, dark="#221e19", light="#fbf6ee")
    return address


@transaction.atomic
def turn_on(person: Person, code: str) -> list[str]:
    """With the first right code the app holds; returns the codes on paper, shown once. Empty for a wrong code."""
    device = TOTPDevice.objects.select_for_update().filter(user=person, confirmed=False).first()
    if device is None or not device.verify_token(code.replace(" ", "")):
        return []
    TOTPDevice.objects.filter(user=person, confirmed=True).delete()
    device.confirmed = True
    device.save(update_fields=["confirmed"])
    StaticDevice.objects.filter(user=person).delete()
    paper = StaticDevice.objects.create(user=person, name="paper")
    codes = [secrets.token_hex(4) for _ in range(ON_PAPER)]
    StaticToken.objects.bulk_create(StaticToken(device=paper, token=code) for code in codes)
    return codes


@transaction.atomic
def turn_off(person: Person) -> None:
    TOTPDevice.objects.filter(user=person).delete()
    StaticDevice.objects.filter(user=person).delete()


def is_right(person: Person, code: str) -> bool:
    """Whether a code is the app's of now, or one on paper, which is used up by it. Wrong ones make the next wait longer each time."""
    return match_token(person, code.replace(" ", "").strip().lower()[:20]) is not None
