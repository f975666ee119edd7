"""Words within sentences."""

from __future__ import annotations

from django.template import Library
from django.utils.translation import get_language

register = Library()


@register.filter(is_safe=True)
def mid_sentence(value: object) -> str:
    """As it stands within a sentence: in small letters, but for languages whose nouns keep their capitals."""
    text = str(value)
    return text if (get_language() or "").startswith("de") else text.lower()
