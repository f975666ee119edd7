"""How every bench closes: its table, reached beside floor, one JSON line; status 1 below a floor; ``--write`` refreshes the docs.

``floors.json`` holds per bench and figure a ``min`` or a ``max`` and, where the work asks for one, a ``goal``. Floors only rise.
"""

from __future__ import annotations

import json
import os
import re
import time
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
PAGE = HERE.parent / "docs" / "benchmarks.md"


def taken_away_s() -> float:
    """Seconds of this machine's processors that went to others on the same hardware, since it began: a figure that is high spoils times."""
    return int(Path("/proc/stat").read_text().splitlines()[0].split()[8]) / os.sysconf("SC_CLK_TCK")


_BEGAN, _TAKEN = time.monotonic(), taken_away_s()


def close(bench: str, table: str, figures: dict[str, Any], *, write: bool) -> int:
    """Print the table and the figures; returns the exit status."""
    floors = json.loads((HERE / "floors.json").read_text()).get(bench, {})
    if table:
        print(table)
        print()
    rows, failed = ["| figure | reached | floor | goal |", "|---|---|---|---|"], False
    for name, value in figures.items():
        bound = floors.get(name, {})
        below = ("min" in bound and value < bound["min"]) or ("max" in bound and value > bound["max"])
        failed |= below
        floor = f"≥ {bound['min']}" if "min" in bound else f"≤ {bound['max']}" if "max" in bound else ""
        rows.append(f"| {name.replace('_', ' ')} | {value} | {floor}{' BELOW' if below else ''} | {bound.get('goal', '')} |")
    print("\n".join(rows))
    if write:
        _write(bench, f"{table}\n\n" + "\n".join(rows))
    print(f"processors taken away by others: {(taken_away_s() - _TAKEN) / (time.monotonic() - _BEGAN):.2f} of {os.cpu_count()}")
    print(json.dumps({"bench": bench, "ok": not failed, **figures}))
    return 1 if failed else 0


def _write(bench: str, text: str) -> None:
    start, end = f"<!-- {bench} -->", f"<!-- /{bench} -->"
    page = PAGE.read_text()
    block = f"{start}\n{text}\n{end}"
    if start in page:
        page = re.sub(re.escape(start) + ".*?" + re.escape(end), lambda _: block, page, flags=re.S)
    else:
        page += f"\n{block}\n"
    PAGE.write_text(page)
