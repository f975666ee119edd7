from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django.contrib.auth.backends import BaseBackend, ModelBackend
from django.http import HttpRequest

from didactor.people.models import Person, SignInCard
from didactor.people.pictures import is_right
from didactor.people.services import hash_code


def _signed_in(pk: int) -> Person | None:
    """With the studio, which every page asks for."""
    return Person.objects.select_related("studio").filter(pk=pk, is_active=True).first()


class PasswordBackend(ModelBackend):
    """Signs in with a name and a password."""

    def get_user(self, user_id: int) -> Person | None:
        return _signed_in(user_id)


class PictureBackend(BaseBackend):
    """Signs a young student in with four pictures."""

    def authenticate(
        self, request: HttpRequest | None, child: Person | None = None, pictures: Sequence[str] = (), **kwargs: Any
    ) -> Person | None:
        return child if child is not None and child.is_active and is_right(child, pictures) else None

    def get_user(self, user_id: int) -> Person | None:
        return _signed_in(user_id)


class CardBackend(BaseBackend):
    """Signs in with the code of a printed card or link."""

    def authenticate(self, request: HttpRequest | None, card_code: str | None = None, **kwargs: Any) -> Person | None:
        if not card_code:
            return None
        card = SignInCard.objects.select_related("person").filter(code_hash=hash_code(card_code)).first()
        return card.person if card and card.person.is_active else None

    def get_user(self, user_id: int) -> Person | None:
        return _signed_in(user_id)
