"""Half-sent requests: while clients trickle a byte a second into bodies they announced as large, everybody else is answered.

    bench/held            needs the project's database (bin/start or bin/test made it)
    bench/held --write    also refreshes its part of docs/benchmarks.md

Starts the server as bin/start does, on loopback, holds connections open and asks for the sign-in page meanwhile. Prints its table;
the last line is one JSON object; exits 1 above a limit.
"""

from __future__ import annotations

import argparse
import http.client
import os
import socket
import statistics
import subprocess
import sys
import threading
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

from report import close  # noqa: E402

HELD = (0, 50, 200)
ASKED = 40


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port = probe.getsockname()[1]
    server = subprocess.Popen(
        [sys.executable, str(HERE.parent / "manage.py"), "serve", f"--listen=127.0.0.1:{port}"],
        env={**os.environ, "PYTHONPATH": str(HERE.parent), "DIDACTOR_TESTING": "1"},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        _wait(port)
        rows, figures = [], {}
        for held in HELD:
            times = _asked_while(port, held)
            rows.append(f"| {held} | {1000 * statistics.median(times):.0f} | {1000 * max(times):.0f} |")
            figures[f"worst_ms_{held}_held"] = round(1000 * max(times))
    finally:
        server.terminate()
        server.wait(20)
    table = "\n".join(["| held | median answer, ms | worst, ms |", "|---|---|---|", *rows])
    return close("held", table, figures, write=options.write)


def _wait(port: int) -> None:
    for _ in range(150):
        try:
            _ask(port)
        except OSError:
            time.sleep(0.1)
        else:
            return
    raise SystemExit("the server did not start")


def _ask(port: int) -> float:
    begun = time.monotonic()
    client = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    client.request("GET", "/sign-in/")
    answer = client.getresponse()
    answer.read()
    client.close()
    if answer.status >= 500:
        raise SystemExit(f"the page answers {answer.status}")
    return time.monotonic() - begun


def _asked_while(port: int, held: int) -> list[float]:
    head = b"POST /sign-in/ HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1000000\r\nContent-Type: text/plain\r\n\r\n"
    sockets = [socket.create_connection(("127.0.0.1", port), 10) for _ in range(held)]
    stopping = threading.Event()

    def trickle() -> None:
        for connection in sockets:
            connection.sendall(head)
        while not stopping.wait(1.0):
            for connection in sockets:
                connection.sendall(b"x")

    thread = threading.Thread(target=trickle, daemon=True)
    thread.start()
    time.sleep(1.0)
    try:
        return [_ask(port) for _ in range(ASKED)]
    finally:
        stopping.set()
        thread.join()
        for connection in sockets:
            connection.close()


if __name__ == "__main__":
    sys.exit(main())
