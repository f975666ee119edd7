"""Something that never ends, for a process apart: it must be importable there, where no application is set up."""

from __future__ import annotations

import time
from typing import Any


class Waiting:
    """Whoever looks at it waits."""

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)
        time.sleep(60)
