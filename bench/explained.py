"""Which large tables the database would read from end to end for what a page asks it."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from django.db import connection

#: A table that is read from end to end costs nothing below this.
LARGE = 2000


def read_whole(sql: str) -> set[str]:
    """The tables of more than ``LARGE`` rows in which one question finds its rows without an index."""
    if not sql.lstrip().startswith("SELECT"):
        return set()
    with connection.cursor() as cursor:
        cursor.execute(f"EXPLAIN (FORMAT JSON) {sql}")
        answer = cursor.fetchone()[0]
    plan = answer if isinstance(answer, list) else json.loads(answer)
    return {node["Relation Name"] for node in _nodes(plan[0]["Plan"]) if node["Node Type"] == "Seq Scan" and _rows(node) > LARGE}


def _nodes(plan: dict[str, Any]) -> Iterator[dict[str, Any]]:
    yield plan
    for below in plan.get("Plans", []):
        yield from _nodes(below)


def _rows(node: dict[str, Any]) -> float:
    with connection.cursor() as cursor:
        cursor.execute("SELECT reltuples FROM pg_class WHERE relname = %s", [node["Relation Name"]])
        return float(cursor.fetchone()[0])
