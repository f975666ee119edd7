"""What the tests are worth: small faults put into the code, one at a time, and whether a test notices.

    bench/mutants                 176 faults, dealt over the rooms; two at a time, about an hour and a half
    bench/mutants --room people   one room: hearing, judging, score, people, assignments, takes, review, library,
                                  practising, practice, scripts
    bench/mutants --count 30      so many in all
    bench/mutants --list          what would be done, without doing it
    bench/mutants --write         also refreshes its part of docs/benchmarks.md

A fault is a guard taken away, a comparison or a condition turned round, a threshold half as large again, a decorator of permissions
dropped, a filter inverted. Which ones are dealt depends on the code itself and changes only where that changes. Each is put into a copy
of the repository, and those tests of its room that reach the function (found once, by running all of them under a tracer) or name its
module run there until the first fails. Words, types and logging are left alone.

The last line is one JSON object; exits 1 below the floor.
"""

from __future__ import annotations

import argparse
import ast
import hashlib
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import Queue
from typing import Any

HERE = Path(__file__).resolve().parent
ROOT = HERE.parent
sys.path[:0] = [str(HERE)]

from report import close  # noqa: E402

#: Room: its files, how many of 176 faults it gets, and the tests that are to notice them.
ROOMS: dict[str, tuple[tuple[str, ...], int, str]] = {
    "hearing": (("didactor/core/hearing", "didactor/core/sound/gate.py", "didactor/core/sound/clicks.py"), 24, "tests/core"),
    "judging": (("didactor/core/judging",), 34, "tests/core"),
    "score": (("didactor/core/score/read", "didactor/core/score/roadmap.py", "didactor/core/score/expected.py"), 16, "tests/core"),
    "people": (("didactor/people",), 16, "tests/apps"),
    "assignments": (("didactor/assignments",), 16, "tests/apps"),
    "takes": (("didactor/takes", "didactor/stand"), 18, "tests/apps"),
    "review": (("didactor/review", "didactor/progress"), 10, "tests/apps"),
    "library": (("didactor/library",), 8, "tests/apps"),
    "practising": (("didactor/core/practising", "didactor/core/planning", "didactor/core/causes"), 16, "tests/core"),
    "practice": (("didactor/practice",), 10, "tests/apps"),
    "scripts": (("didactor/static/js",), 8, "tests/js"),
}
SKIPPED = ("migrations", "apps.py", "__init__.py", "management", "templatetags")
#: A test run that goes on for longer is stopped, and the fault counts as noticed: something turns for ever.
LONGEST_S = 900
#: Runs tests and notes which functions of ours they call: file and qualified name.
TRACER = """
import atexit, json, runpy, sys, threading
reached, root, out = set(), sys.argv[1], sys.argv[2]
def called(frame, event, argument):  # only of functions: modules and classes run when they are read
    code = frame.f_code
    if code.co_flags & 1 and code.co_filename.startswith(root):
        reached.add((code.co_filename[len(root) + 1:], code.co_qualname.replace("<locals>.", "")))
threading.settrace(called)
sys.settrace(called)
atexit.register(lambda: open(out, "w").write(json.dumps(sorted(reached))))
sys.argv = ["manage.py", *sys.argv[3:]]
runpy.run_path("manage.py", run_name="__main__")
"""
TURNED = {ast.Lt: ">", ast.Gt: "<", ast.LtE: ">", ast.GtE: "<", ast.Eq: "!=", ast.NotEq: "==", ast.Is: "is not", ast.IsNot: "is"}
SIGNS = {ast.Lt: "<", ast.Gt: ">", ast.LtE: "<=", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=", ast.Is: "is", ast.IsNot: "is not"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Mutant:
    """One fault: in ``file``, at ``line`` (from 1), ``old`` becomes ``new`` from column ``column`` on."""

    room: str
    file: str
    line: int
    column: int
    old: str
    new: str
    kind: str
    inside: str

    @property
    def key(self) -> str:
        """Where it falls in the dealing: by what it does, not by where the line stands."""
        return hashlib.sha256(f"{self.file}\0{self.inside}\0{self.kind}\0{self.old}\0{self.new}".encode()).hexdigest()

    def __str__(self) -> str:
        return f"{self.file}:{self.line} {self.kind}: {self.old} -> {self.new}"


def mutants_of(room: str) -> list[Mutant]:
    found = [m for path in _files(room) for m in (_of_script if path.suffix == ".js" else _of_module)(room, path)]
    return sorted({m.key: m for m in found}.values(), key=lambda m: m.key)


def _files(room: str) -> Iterator[Path]:
    for name in ROOMS[room][0]:
        path = ROOT / name
        files = [path] if path.is_file() else sorted([*path.rglob("*.py"), *path.rglob("*.js")])
        yield from (f for f in files if not any(skipped in f.parts for skipped in SKIPPED))


def _of_module(room: str, path: Path) -> Iterator[Mutant]:
    source = path.read_text()
    lines = source.splitlines()
    file = str(path.relative_to(ROOT))

    def made(node: ast.AST, old: str, new: str, kind: str, inside: str, column: int | None = None) -> Iterator[Mutant]:
        line = node.lineno  # type: ignore[attr-defined]
        at = lines[line - 1].find(old, node.col_offset if column is None else column)  # type: ignore[attr-defined]
        if at >= 0:
            yield Mutant(room=room, file=file, line=line, column=at, old=old, new=new, kind=kind, inside=inside)

    def visit(node: ast.AST, inside: str) -> Iterator[Mutant]:
        if isinstance(node, ast.FunctionDef | ast.ClassDef):
            inside = f"{inside}.{node.name}"
            for decorator in node.decorator_list:
                text = lines[decorator.lineno - 1].strip()
                # A transaction's worth shows only when something breaks in it: those stay.
                if re.fullmatch(r"@(teacher_only|student_only|family|anybody|require_POST)", text):
                    line = decorator.lineno
                    yield Mutant(room=room, file=file, line=line, column=0, old=text, new="", kind="decorator dropped", inside=inside)
        if isinstance(node, ast.If) and not node.orelse and isinstance(node.body[0], ast.Raise | ast.Return | ast.Continue):
            condition = ast.get_source_segment(source, node.test) or ""
            if condition and "\n" not in condition and "TYPE_CHECKING" not in condition:
                yield from made(node, condition, f"False and ({condition})", "guard taken away", inside)
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in TURNED and node.lineno == node.end_lineno:
            sign = SIGNS[type(node.ops[0])]
            yield from made(
                node, f" {sign} ", f" {TURNED[type(node.ops[0])]} ", "comparison turned", inside, column=node.left.end_col_offset
            )
        if isinstance(node, ast.BoolOp) and node.values[0].end_lineno == node.values[1].lineno:
            old, new = (" and ", " or ") if isinstance(node.op, ast.And) else (" or ", " and ")
            yield from made(node.values[0], old, new, "condition turned", inside, column=node.values[0].end_col_offset)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in ("filter", "exclude"):
            value_end = node.func.value.end_lineno
            other = {"filter": "exclude", "exclude": "filter"}[node.func.attr]
            if value_end == node.func.end_lineno and (node.args or node.keywords):
                yield from made(
                    node.func, f".{node.func.attr}(", f".{other}(", "filter inverted", inside, column=node.func.value.end_col_offset
                )
        for child in ast.iter_child_nodes(node):
            yield from visit(child, inside)

    tree = ast.parse(source)
    yield from visit(tree, "")
    for statement in tree.body:
        if isinstance(statement, ast.Assign) and room in ("hearing", "judging", "takes", "people"):
            for constant in ast.walk(statement.value):
                if isinstance(constant, ast.Constant) and isinstance(constant.value, int | float) and not isinstance(constant.value, bool):
                    name = ast.get_source_segment(source, statement.targets[0]) or ""
                    text = ast.get_source_segment(source, constant) or ""
                    if name.isupper() or "," in name:
                        new = f"({text} * 1.5)" if isinstance(constant.value, float) else f"({text} + max(1, {text} // 2))"
                        yield from made(constant, text, new, "threshold moved", name)


#: What a script's line may become. Comments and words are not looked at.
_SCRIPT = (
    (r" === ", " !== ", "comparison turned"),
    (r" !== ", " === ", "comparison turned"),
    (r" < ", " > ", "comparison turned"),
    (r" > ", " < ", "comparison turned"),
    (r" && ", " || ", "condition turned"),
    (r" \|\| ", " && ", "condition turned"),
    (r" \+ ", " - ", "sign turned"),
    (r" - ", " + ", "sign turned"),
)


def _of_script(room: str, path: Path) -> Iterator[Mutant]:
    tested = {re.search(r"js/(\w+)\.js", text)[1] for f in (ROOT / "tests/js").glob("*.mjs") if (text := f.read_text()) and "js/" in text}  # type: ignore[index]
    if path.stem not in tested:
        return
    for number, line in enumerate(path.read_text().splitlines(), start=1):
        code = line.split("//")[0]
        if '"' in code or "`" in code:
            continue
        for pattern, new, kind in _SCRIPT:
            for match in re.finditer(pattern, code):
                yield Mutant(
                    room=room,
                    file=str(path.relative_to(ROOT)),
                    line=number,
                    column=match.start(),
                    old=match.group(),
                    new=new,
                    kind=kind,
                    inside=code.strip(),
                )


def dealt(count: int, rooms: list[str]) -> list[Mutant]:
    """The first of each room by their key, no more than three of one function."""
    whole = sum(ROOMS[room][1] for room in rooms)
    found: list[Mutant] = []
    for room in rooms:
        per_function: dict[tuple[str, str], int] = {}
        wanted, taken = round(count * ROOMS[room][1] / whole), 0
        for mutant in mutants_of(room):
            place = (mutant.file, mutant.inside)
            if taken < wanted and per_function.get(place, 0) < 3:
                per_function[place] = per_function.get(place, 0) + 1
                found.append(mutant)
                taken += 1
    return found


@dataclass(frozen=True, slots=True)
class Reach:
    """Test module of a room to what it calls, and the seconds it takes."""

    calls: dict[str, set[tuple[str, str]]]
    seconds: dict[str, float]

    def tests_for(self, mutant: Mutant) -> list[str]:
        """What reaches the function, or anything of its file where that is no function; and what names the module. Quick ones first."""
        if mutant.room == "scripts":
            return [str(f.relative_to(ROOT)) for f in sorted((ROOT / ROOMS[mutant.room][2]).glob("*.mjs"))]
        function = mutant.inside.lstrip(".")
        files = {mutant.file} if mutant.inside.startswith(".") else _that_name(mutant.inside)
        known = any((mutant.file, function) in calls for calls in self.calls.values())
        found = []
        for module, calls in self.calls.items():
            if not module.startswith(ROOMS[mutant.room][2].replace("/", ".")):
                continue
            reaches = (mutant.file, function) in calls if known else any(file in files for file, _ in calls)
            if reaches or re.search(rf"\b{Path(mutant.file).stem}\b", (ROOT / (module.replace(".", "/") + ".py")).read_text()):
                found.append(module)
        return sorted(found, key=lambda module: self.seconds[module])


def _that_name(constant: str) -> set[str]:
    """Files of ours in which a constant is used."""
    words = [re.compile(rf"\b{re.escape(word.strip())}\b") for word in constant.split(",")]
    files = ((path, path.read_text()) for path in (ROOT / "didactor").rglob("*.py"))
    return {str(path.relative_to(ROOT)) for path, text in files if any(word.search(text) for word in words)}


class Bench:
    """A copy of the repository with a database of its own, in which one fault at a time is put."""

    def __init__(self, folder: Path, number: int) -> None:
        self.root = folder / f"copy{number}"
        ignored = shutil.ignore_patterns("var", ".git", "node_modules", "__pycache__", "docs")
        shutil.copytree(ROOT, self.root, ignore=ignored)
        (self.root / "node_modules").symlink_to(ROOT / "node_modules") if (ROOT / "node_modules").exists() else None
        self.environment = {
            **os.environ,
            "PYTHONPATH": str(self.root),
            "PYTHONDONTWRITEBYTECODE": "1",
            "DIDACTOR_TESTING": "1",
            "DIDACTOR_DB_NAME": f"didactor_mutants_{number}",
        }

    def reached_by(self, module: str) -> tuple[set[tuple[str, str]], float]:
        """What a test module calls, and how long it takes."""
        out, started = self.root / "reached.json", time.monotonic()
        command = [sys.executable, "-c", TRACER, str(self.root), str(out), "test", module, "--noinput", "--keepdb", "-v", "0"]
        ran = subprocess.run(command, cwd=self.root, env=self.environment, capture_output=True, text=True, check=False)
        if ran.returncode:
            raise RuntimeError(f"{module} fails without any fault: {ran.stderr[-400:]}")
        return {(file, name) for file, name in json.loads(out.read_text())}, time.monotonic() - started

    def notices(self, mutant: Mutant, tests: list[str]) -> str:
        """The test that fails with the fault in place; empty if none does."""
        path = self.root / mutant.file
        whole = path.read_text()
        lines = whole.splitlines(keepends=True)
        line = lines[mutant.line - 1]
        lines[mutant.line - 1] = line[: mutant.column] + line[mutant.column :].replace(mutant.old, mutant.new, 1)
        path.write_text("".join(lines))
        try:
            return self._fails(tests) if tests else ""
        finally:
            path.write_text(whole)

    def _fails(self, tests: list[str]) -> str:
        if tests[0].endswith(".mjs"):
            command = ["node", "--test", *tests]
        else:
            command = [sys.executable, "manage.py", "test", *tests, "--noinput", "--keepdb", "--failfast", "-v", "0"]
        try:
            ran = subprocess.run(
                command, cwd=self.root, env=self.environment, capture_output=True, text=True, timeout=LONGEST_S, check=False
            )
        except subprocess.TimeoutExpired:
            return "it never ends"
        if ran.returncode == 0:
            return ""
        failed = re.search(r"^(?:FAIL|ERROR): (\S+)", ran.stderr, re.MULTILINE) or re.search(
            r"^not ok \d+ - (.+)$", ran.stdout, re.MULTILINE
        )
        return failed[1] if failed else "it does not start"


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--room", choices=sorted(ROOMS), action="append")
    parser.add_argument("--count", type=int, default=176)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    for flag in ("--list", "--write"):
        parser.add_argument(flag, action="store_true")
    options = parser.parse_args()
    chosen = dealt(options.count, options.room or list(ROOMS))
    if options.list:
        print(*chosen, sep="\n")
        return 0
    started, noticed = time.monotonic(), {}
    with tempfile.TemporaryDirectory(prefix="didactor-mutants-") as folder, ThreadPoolExecutor(options.jobs) as pool:
        free: Queue[Bench] = Queue()
        for number in range(options.jobs):
            free.put(Bench(Path(folder), number))

        def with_a_bench(do: Callable[[Bench], Any]) -> Any:
            bench = free.get()
            try:
                return do(bench)
            finally:
                free.put(bench)

        folders = {ROOMS[mutant.room][2] for mutant in chosen} - {"tests/js"}
        files = [path for name in sorted(folders) for path in sorted((ROOT / name).glob("test_*.py"))]
        modules = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in files]
        traced = dict(zip(modules, pool.map(lambda m: with_a_bench(lambda bench: bench.reached_by(m)), modules), strict=True))
        reach = Reach({m: calls for m, (calls, _) in traced.items()}, {m: seconds for m, (_, seconds) in traced.items()})
        print(f"{len(modules)} test modules traced, {time.monotonic() - started:.0f} s", file=sys.stderr, flush=True)

        def tried(mutant: Mutant) -> str:
            return str(with_a_bench(lambda bench: bench.notices(mutant, reach.tests_for(mutant))))

        for mutant, by in zip(chosen, pool.map(tried, chosen), strict=True):
            noticed[mutant] = by
            print(f"{'noticed by ' + by if by else 'NOT NOTICED'}: {mutant}", file=sys.stderr, flush=True)
    rows = []
    for room in ROOMS:
        of_room = [by for mutant, by in noticed.items() if mutant.room == room]
        if of_room:
            rows.append([room, len(of_room), sum(map(bool, of_room)), round(100 * sum(map(bool, of_room)) / len(of_room))])
    killed = 100 * sum(map(bool, noticed.values())) / max(1, len(noticed))
    figures = {"mutants": len(noticed), "noticed_percent": round(killed, 1)}
    text = "\n".join(["| room | faults | noticed | % |", "|---|---|---|---|", *("| " + " | ".join(map(str, row)) + " |" for row in rows)])
    print(f"{time.monotonic() - started:.0f} s", file=sys.stderr)
    whole = not options.room and options.count == 176
    return close("mutants" if whole else "mutants_part", text, figures, write=options.write and whole)


if __name__ == "__main__":
    sys.exit(main())
