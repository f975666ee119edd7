"""``csrf_token`` with a number of the form beside it, so that no form anywhere is made without (see ``people/sent_once.py``)."""

from __future__ import annotations

import secrets
from typing import Any

from django.template import Library
from django.template.defaulttags import CsrfTokenNode
from django.utils.html import format_html

register = Library()


class _Node(CsrfTokenNode):
    def render(self, context: Any) -> str:
        return format_html('{}<input type="hidden" name="once" value="{}">', super().render(context), secrets.token_urlsafe(12))


@register.tag
def csrf_token(parser: Any, token: Any) -> _Node:
    """Replaces Django's own of that name."""
    return _Node()
