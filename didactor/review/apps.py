from typing import Any

from django.apps import AppConfig
from django.db.models.signals import post_delete

from didactor.library.said import forget


class ReviewConfig(AppConfig):
    name = "didactor.review"
    label = "review"

    def ready(self) -> None:
        # Marks go with their take, by rules of the database: what was said with them goes too.
        post_delete.connect(_forget_said, sender="review.Mark")


def _forget_said(instance: Any, **_: object) -> None:
    forget(instance.said)
