"""Run one of the readers of ``child.TOOLS`` in an isolated process with hard limits.

The child is a fresh interpreter (``-I``) that first of all limits its address space, processor time, written file size and open
files; it has an empty environment, its own process group, and a deadline after which the group is killed. It reads a file that the
parent opened and writes its answer to a file that the parent opened; it is given no path. The child limits itself, and takes its own
rights away (``confine``), before it opens the file, since code between fork and exec (``preexec_fn``) is not safe where the parent has
threads.
"""

from __future__ import annotations

import base64
import json
import logging
import os
import signal
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from didactor.core.errors import AudioError, BusyError, CoreError, SandboxError, ScoreError
from didactor.core.sandbox.confine import UNFORESEEN, compiled_filter
from didactor.core.words import _, read, worded

logger = logging.getLogger(__name__)
ROOT = Path(__file__).resolve().parents[3]
_BOOT = "import sys; sys.path.insert(0, sys.argv[1]); from didactor.core.sandbox.child import main; main(*sys.argv[2:])"
BUSY = _("There is much to do here just now, so this file could not be read yet. Nothing was changed: try again in a few minutes.")
_ERRORS: dict[str, type[CoreError]] = {"ScoreError": ScoreError, "AudioError": AudioError}


@dataclass(frozen=True, kw_only=True)
class Limits:
    """What the isolated process may use. Sizes in bytes, times in seconds.

    ``cpu_s`` is what a file may cost: seconds of its own processor time. ``wall_s`` is how long somebody waits for it, on a machine that
    may be busy with other things; a file is not judged by it.
    """

    memory: int = 1_500_000_000
    cpu_s: int = 60
    wall_s: float = 120.0
    output: int = 400_000_000
    open_files: int = 128

    def of_process(self) -> dict[str, tuple[int, int]]:
        """Soft and hard limits by the names of the ``resource`` module."""
        return {
            "RLIMIT_AS": (self.memory, self.memory),
            "RLIMIT_CPU": (self.cpu_s, self.cpu_s + 1),
            "RLIMIT_FSIZE": (self.output, self.output),
            "RLIMIT_NOFILE": (self.open_files, self.open_files),
            "RLIMIT_CORE": (0, 0),
        }


@dataclass(frozen=True, kw_only=True)
class Answer:
    """``head`` is the reader's JSON; ``body`` its bytes (samples, prepared XML), possibly empty; ``layers`` of confinement that held."""

    head: dict[str, Any]
    body: bytes
    layers: tuple[str, ...]


def run_isolated(tool: str, source: IO[bytes], options: dict[str, Any] | None = None, limits: Limits | None = None) -> Answer:
    """Run ``tool`` on the open file ``source`` (it must have a file descriptor) in isolation.

    Raises:
        ScoreError, AudioError: what the reader said of the file.
        SandboxError: the process died or hit one of ``limits``.
        BusyError: it had not had its ``cpu_s`` when ``wall_s`` were over.
    """
    limits = limits or Limits()
    with tempfile.TemporaryFile() as answer:
        process = subprocess.Popen(
            [sys.executable, "-I", "-c", _BOOT, str(ROOT), tool, json.dumps(limits.of_process())],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            pass_fds=(source.fileno(), answer.fileno()),
            env={"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1", "PATH": "/usr/bin:/bin", **_processor_settings()},
            start_new_session=True,
            cwd="/",
        )
        filter_ = base64.b64encode(compiled_filter()).decode()
        request = json.dumps(
            {"source": source.fileno(), "answer": answer.fileno(), "options": options or {}, "filter": filter_, "strict": is_strict()}
        )
        try:
            _out, errors = process.communicate(request.encode(), timeout=limits.wall_s)
        except subprocess.TimeoutExpired as error:
            os.killpg(process.pid, signal.SIGKILL)
            process.communicate()
            # Its own limit of processor time would have ended it before, had it had that time.
            raise BusyError("sandbox.busy", BUSY) from error
        if process.returncode != 0:
            raise SandboxError(
                "sandbox.died",
                worded("This file could not be read within the memory and time allowed. It may be damaged or far too large."),
            ) from RuntimeError(errors.decode("utf-8", "replace")[-2000:])
        answer.seek(0)
        head = json.loads(answer.readline())
        body = answer.read()
    if head.get("code") == UNFORESEEN:
        logger.error("a file was refused because its reader did not foresee it (%s): %s", tool, head["unforeseen"])
        raise _ERRORS.get(head["error"], SandboxError)(UNFORESEEN, read(head["message"])) from RuntimeError(head["unforeseen"])
    if "error" in head:
        raise _ERRORS.get(head["error"], SandboxError)(head["code"], read(head["message"]))
    return Answer(head=head, body=body, layers=tuple(head.pop("layers")))


def is_strict() -> bool:
    """Whether files are refused where their reader cannot be confined well enough: in operation, unless the operator allows it."""
    return os.environ.get("DIDACTOR_HTTPS") == "1" and os.environ.get("DIDACTOR_WEAK_SANDBOX") != "1"


def layers_that_hold() -> tuple[str, ...]:
    """What of ``confine`` holds on this machine."""
    with tempfile.TemporaryFile() as nothing:
        return run_isolated("probe", nothing).layers


def _processor_settings() -> dict[str, str]:
    return {name: os.environ[name] for name in ("OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE") if name in os.environ}
