"""The layers stay apart, and files and functions stay small."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

from django.test import SimpleTestCase

ROOT = Path(__file__).resolve().parents[2] / "didactor"
#: In the order of the job: nothing names what comes later, be it by an import, an address, a template or a dotted path. ``config`` puts
#: them together; what is no step of the job (``core``, ``web``) names none of them.
APPS = ("people", "library", "assignments", "takes", "practice", "review", "progress", "stand", "letters", "archive", "demo", "operation")
MOST_LINES_IN_A_FILE, MOST_LINES_IN_A_FUNCTION = 480, 80
_NAMED_IN_TEMPLATE = re.compile(r"""\{%\s*(?:url|include|extends)\s+["']([a-z_]+)[:/]""")


def imports(tree: ast.AST) -> Iterator[str]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module


def named_in(path: Path) -> Iterator[str]:
    """What a file names of other rooms: ``takes`` for an import of it, an address ``takes:sound``, a template or a model of it."""
    text = path.read_text()
    if path.suffix == ".html":
        yield from _NAMED_IN_TEMPLATE.findall(text)
        return
    tree = ast.parse(text)
    yield from (name.split(".")[1] for name in imports(tree) if name.startswith("didactor."))
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            found = re.match(r"(?:didactor\.)?([a-z_]+)[:./][\w/]", node.value)
            if found:
                yield found[1]


def files(*rooms: str) -> Iterator[Path]:
    for room in rooms:
        for path in (ROOT / room).rglob("*"):
            if path.suffix in (".py", ".html") and "migrations" not in path.parts:
                yield path


class LayerTests(SimpleTestCase):
    def test_the_core_knows_neither_django_nor_the_apps(self):
        for path in (ROOT / "core").rglob("*.py"):
            for name in imports(ast.parse(path.read_text())):
                self.assertFalse(name.startswith("django"), f"{path}: {name}")
                self.assertFalse(name.startswith("didactor.") and not name.startswith("didactor.core"), f"{path}: {name}")

    def test_apps_name_nothing_that_comes_later_in_the_job(self):
        for position, app in enumerate(APPS):
            later = {*APPS[position + 1 :], "config"}
            for path in files(app):
                for name in named_in(path):
                    self.assertNotIn(name, later, str(path.relative_to(ROOT)))

    def test_what_is_no_step_of_the_job_names_no_step(self):
        for path in files("web"):
            self.assertFalse(set(named_in(path)) & set(APPS), str(path.relative_to(ROOT)))

    def test_imports_stand_at_the_top(self):
        """A module that imports another inside a function hides a knot; optional speed is said where it is wanted."""
        for path in files(*APPS, "web", "config"):
            if path.suffix != ".py":
                continue
            tree = ast.parse(path.read_text())
            for function in (n for n in ast.walk(tree) if isinstance(n, ast.FunctionDef)):
                own = [name for name in imports(function) if name.startswith("didactor.")]
                self.assertEqual(own, [], f"{path.relative_to(ROOT)}: {function.name}")

    def test_files_and_functions_stay_small(self):
        for path in ROOT.rglob("*.py"):
            if "migrations" in path.parts:
                continue
            text = path.read_text()
            self.assertLessEqual(text.count("\n"), MOST_LINES_IN_A_FILE, path)
            for node in ast.walk(ast.parse(text)):
                if isinstance(node, ast.FunctionDef):
                    self.assertLessEqual((node.end_lineno or 0) - node.lineno, MOST_LINES_IN_A_FUNCTION, f"{path}: {node.name}")
