"""Which ear heard a take: a version that moves by itself whenever the code or the models behind a result change."""

from __future__ import annotations

import hashlib
from functools import cache
from importlib.metadata import version
from pathlib import Path

SERIES = "0.3"
_CORE = Path(__file__).parent
#: Whatever a result for the same sound, score and targets depends on; folders with all their modules and fitted weights.
PARTS = (
    "hearing",
    "judging",
    "steps",
    "sound/backing.py",
    "sound/clicks.py",
    "sound/decode.py",
    "sound/gate.py",
    "sound/recording.py",
    "score/chords.py",
    "score/expected.py",
    "score/roadmap.py",
    "analyse.py",
    "arrays.py",
    "instruments.py",
    "peaks.py",
    "units.py",
)
#: Packages whose wheels hold the weights of a network.
MODELS = ("swift-f0", "basic-pitch")


@cache
def engine_version() -> str:
    """The series and a hash of code and models: equal for two installations if, and only if, they hear alike."""
    digest = hashlib.sha256()
    for path in sources():
        digest.update(str(path.relative_to(_CORE)).encode() + b"\0" + path.read_bytes() + b"\0")
    for model in MODELS:
        digest.update(f"{model}={version(model)}\0".encode())
    return f"{SERIES}-{digest.hexdigest()[:10]}"


def sources() -> list[Path]:
    """The files that the version is made of, in a fixed order."""
    found: list[Path] = []
    for part in PARTS:
        path = _CORE / part
        found += [p for p in path.rglob("*") if p.suffix in (".py", ".json")] if path.is_dir() else [path]
    return sorted(found)
