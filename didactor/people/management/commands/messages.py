"""Bring ``didactor/locale`` up to date with all that is said to people: in templates, in Python, in the browser."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import CommandParser
from django.core.management.commands.makemessages import Command as MakeMessages


class Command(MakeMessages):
    help = "Collect messages for translation into every language."
    #: Of ``core/words.py`` and ``static/js/words.js``.
    xgettext_options = [*MakeMessages.xgettext_options, "--keyword=worded", "--keyword=counted:1,2"]
    msgmerge_options = [*MakeMessages.msgmerge_options, "--no-fuzzy-matching"]

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        own = {"add_location": "file", "no_wrap": True, "no_obsolete": True, "ignore_patterns": ["locale/*", "demo/*", "vendor/*"]}
        parser.set_defaults(locale=[code.replace("-gb", "_GB") for code, _ in settings.LANGUAGES if code != "en"], **own)

    def handle(self, *args: Any, **options: Any) -> None:
        if options["domain"] == "django":
            call_command("messages", domain="djangojs", verbosity=options["verbosity"])
        super().handle(*args, **options)
