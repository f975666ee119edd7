"""What goes into the log: numbers and addresses of things, never what lets somebody in."""

from __future__ import annotations

import logging
import re

#: A card's code and the signed part of an address open something for whoever has them.
_SECRETS = re.compile(r"(/in/|/join/|/forgotten/|/calendar/|/letters/stop/)[^/?\s]+")


class WithoutSecrets(logging.Filter):
    """Takes codes and signed addresses out of every line."""

    def filter(self, record: logging.LogRecord) -> bool:
        record.msg = _SECRETS.sub(r"\1…", record.getMessage())
        record.args = ()
        # The request itself would come with all it holds.
        record.__dict__.pop("request", None)
        return True
