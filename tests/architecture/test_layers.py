"""The layers stay apart, and files and functions stay small."""

from __future__ import annotations

import ast
from pathlib import Path

from django.test import SimpleTestCase

ROOT = Path(__file__).resolve().parents[2] / "didactor"
#: In the order of the job: nothing imports what comes later, except inside a function that says why.
APPS = ("people", "library", "assignments", "takes", "review", "demo")
#: Pages that gather what later steps know of a student or an assignment.
ALLOWED = {
    ("people/context.py", "takes"),
    ("people/views.py", "assignments"),
    ("assignments/views.py", "takes"),
    ("assignments/planning_views.py", "takes"),
    ("library/views.py", "takes"),
    ("library/passage_views.py", "takes"),
}
MOST_LINES_IN_A_FILE, MOST_LINES_IN_A_FUNCTION = 480, 80


def imports(path: Path) -> set[str]:
    names: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module)
    return names


class LayerTests(SimpleTestCase):
    def test_the_core_knows_neither_django_nor_the_apps(self):
        for path in (ROOT / "core").rglob("*.py"):
            for name in imports(path):
                self.assertFalse(name.startswith("django"), f"{path}: {name}")
                self.assertFalse(name.startswith("didactor.") and not name.startswith("didactor.core"), f"{path}: {name}")

    def test_apps_import_in_the_order_of_the_job(self):
        for position, app in enumerate(APPS):
            for path in (ROOT / app).rglob("*.py"):
                if "migrations" in path.parts:
                    continue
                for name in imports(path):
                    later = next((a for a in APPS[position + 1 :] if name.startswith(f"didactor.{a}")), None)
                    place = str(path.relative_to(ROOT))
                    self.assertTrue(later is None or (place, later) in ALLOWED, f"{place} imports {name}")

    def test_files_and_functions_stay_small(self):
        for path in ROOT.rglob("*.py"):
            if "migrations" in path.parts:
                continue
            text = path.read_text()
            self.assertLessEqual(text.count("\n"), MOST_LINES_IN_A_FILE, path)
            for node in ast.walk(ast.parse(text)):
                if isinstance(node, ast.FunctionDef):
                    self.assertLessEqual((node.end_lineno or 0) - node.lineno, MOST_LINES_IN_A_FUNCTION, f"{path}: {node.name}")
