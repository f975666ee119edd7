from __future__ import annotations

from typing import Any

from django.contrib.auth.backends import BaseBackend
from django.http import HttpRequest

from didactor.people.models import Person, SignInCard
from didactor.people.services import hash_code


class CardBackend(BaseBackend):
    """Signs in with the code of a printed card or link."""

    def authenticate(self, request: HttpRequest | None, card_code: str | None = None, **kwargs: Any) -> Person | None:
        if not card_code:
            return None
        card = SignInCard.objects.select_related("person").filter(code_hash=hash_code(card_code)).first()
        return card.person if card and card.person.is_active else None

    def get_user(self, user_id: int) -> Person | None:
        return Person.objects.filter(pk=user_id, is_active=True).first()
