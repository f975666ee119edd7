"""Bars left out among bars alike: which of them it was nobody can hear, so every reading that sounds the same is a true one."""

from __future__ import annotations

from typing import Any

from takes import Take

Key = tuple[str, int]


def skip_as_claimed(take: Take, claimed: set[Key]) -> tuple[Key, dict[tuple[str, int], tuple[str, int]]] | None:
    """The planted skip as the claim has it, if that sounds the same: its first bar, and how the truth's (id, pass) are to be renamed.

    None where no skip was planted, or nothing that sounds the same was claimed.
    """
    fault = next((f for f in take.truth["faults"] if f["kind"] == "skip"), None)
    if fault is None:
        return None
    order: list[Key] = [(b.number, b.pass_) for b in take.expectation.bars]
    note = take.expectation.notes[fault["note"]]
    planted, count = order.index((note.bar, note.pass_)), int(fault.get("bars", 1))
    inside: dict[Key, list[Any]] = {}
    for written in take.expectation.notes:
        inside.setdefault((written.bar, written.pass_), []).append(written)
    heard = _without(order, planted, count)
    for start in range(len(order) - count + 1):
        other = _without(order, start, count)
        if claimed != set(order[start : start + count]) or any(
            _sounds(inside.get(a, [])) != _sounds(inside.get(b, [])) for a, b in zip(heard, other, strict=True)
        ):
            continue
        renamed = {
            (x.id, x.pass_): (y.id, y.pass_)
            for a, b in zip(heard, other, strict=True)
            for x, y in zip(inside.get(a, []), inside.get(b, []), strict=True)
        }
        return order[start], renamed
    return None


def _without(order: list[Key], start: int, count: int) -> list[Key]:
    return order[:start] + order[start + count :]


def _sounds(notes: list[Any]) -> list[tuple[float, float, int]]:
    return [(round(n.beat, 3), round(n.duration_quarters, 3), n.sounding_midi) for n in notes]
