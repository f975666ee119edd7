from __future__ import annotations

import os
import shutil
import socket
import sys
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.core.wsgi import get_wsgi_application
from waitress import serve

from didactor.web.loading import load_pages
from didactor.web.processes import keep_running

#: It takes a request in whole before a thread of ours works on it: slow or half-sent ones hold up nobody. Larger bodies are refused at
#: once; recordings come in pieces. What a proxy in front says of scheme and address is passed on; it is believed only with
#: DIDACTOR_HTTPS=1 and DIDACTOR_PROXIES=1.
OPTIONS: dict[str, Any] = {
    "threads": 8,
    "connection_limit": 1000,
    "channel_timeout": 60,
    "asyncore_use_poll": True,
    "max_request_body_size": 134217728,
    "ident": "",
    "clear_untrusted_proxy_headers": False,
}
WAITING = 1024


class Command(BaseCommand):
    """The pages, in several processes: each of them computes on one processor at a time, and while one does the others answer."""

    help = "Serve the pages."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--listen", default="127.0.0.1:8000", metavar="ADDRESS:PORT")
        parser.add_argument("--processes", type=int, default=settings.WEB_PROCESSES)

    def handle(self, *args: Any, listen: str, processes: int, **options: Any) -> None:
        host, _, port = listen.rpartition(":")
        if not port.isdecimal() or processes < 1:
            raise CommandError("--listen takes an address and a port, such as 127.0.0.1:8000; --processes a number from 1 on.")
        _count_together(port)
        host = host.strip("[]")
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        try:
            door = socket.create_server((host, int(port)), family=family, backlog=WAITING)
        except OSError as error:
            raise CommandError(f"Nothing can listen at {listen}: {error.strerror}.") from None
        # Once, before they part: what is loaded is shared.
        application = get_wsgi_application()
        load_pages()
        keep_running([lambda: serve(application, sockets=[door], **OPTIONS)] * processes)


def _count_together(port: str) -> None:
    """Figures of all processes in one folder. What counts decides where it does as it is loaded: so this begins anew, with the folder."""
    if "PROMETHEUS_MULTIPROC_DIR" in os.environ:
        return
    folder = Path(settings.STATE) / "metrics" / port
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    os.environ["PROMETHEUS_MULTIPROC_DIR"] = str(folder)
    os.execv(sys.executable, [sys.executable, *sys.argv])
