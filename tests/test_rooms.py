"""Who may know whom: nothing imports upward, and core knows NumPy and SciPy alone."""

from __future__ import annotations

import ast
import subprocess
import sys
from functools import cache
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src" / "joinery"
FLOOR = {
    "support": 0,
    "core": 1,
    "notation": 1,
    "data": 2,
    "design": 3,
    "show": 3,
    "first_look": 4,
    "study": 5,
    "hand_over": 6,
    "model": 7,
    "rehearsal": 8,
    "cli": 9,
}
FILES = sorted(SOURCE.rglob("*.py"))


@cache
def parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_text("utf-8"))


def imported(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(parsed(path)):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path}: imports are written in full"
            found |= {node.module or ""} | {
                f"{node.module}.{a.name}" for a in node.names if node.module == "joinery"
            }
    return found


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_nothing_imports_upward(path):
    place = path.relative_to(SOURCE)
    if len(place.parts) == 1:
        return  # the public face and the errors
    room = place.parts[0]
    rooms = {
        name.split(".")[1]
        for name in imported(path)
        if name.startswith("joinery.") and name.count(".")
    }
    for other in rooms & FLOOR.keys() - {room}:
        below = FLOOR[other] < FLOOR[room] or (room, other) == ("show", "core")
        assert below, f"{place} imports the room {other}"
    if room == "core":
        assert rooms <= {"core", "support"}
        assert {name.split(".")[0] for name in imported(path)} <= {
            "__future__", "collections", "concurrent", "contextlib", "dataclasses", "functools", "itertools", "math", "numpy", "os", "scipy",
                "threading", "typing", "joinery",
        }  # fmt: skip


MODULES = {
    ".".join(("joinery", *p.relative_to(SOURCE).with_suffix("").parts)).removesuffix(".__init__"): p
    for p in FILES
}


def graph() -> dict[str, set[str]]:
    """Return which module knows which: imports inside functions and for types alone count too."""
    found = {}
    for name, path in MODULES.items():
        known = set()
        for node in ast.walk(parsed(path)):
            if isinstance(node, ast.ImportFrom) and node.module:
                known |= {
                    full if (full := f"{node.module}.{a.name}") in MODULES else node.module
                    for a in node.names
                }
        found[name] = known & MODULES.keys() - {"joinery", name}
    return found


def test_there_is_no_circle_anywhere():
    left = graph()
    while free := [name for name, known in left.items() if not known & left.keys()]:
        for name in free:
            del left[name]
    assert not left, f"among these is a circle: {sorted(left)}"


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_no_module_takes_a_private_name_of_another(path):
    for node in ast.walk(parsed(path)):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("joinery."):
            assert not [a.name for a in node.names if a.name.startswith("_")], (
                f"{path}: {node.module}"
            )


def test_the_errors_stand_on_nothing():
    ours = {
        name for name in imported(SOURCE / "support" / "errors.py") if name.startswith("joinery")
    }
    assert ours <= {"joinery.support.urls"}


def test_importing_joinery_loads_nothing_heavy():
    code = "import sys, joinery; print([m for m in ('pandas', 'scipy', 'matplotlib', 'rich', 'lark') if m in sys.modules])"
    out = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True
    ).stdout
    assert out.strip() == "[]"


def test_a_fit_loads_no_picture_and_no_screen():
    code = (
        "import sys, joinery as jn; jn.fit('sample:jars', 'jars_sold given hours_open').coefficients();"
        "print([m for m in ('matplotlib', 'rich', 'scipy.stats', 'jinja2') if m in sys.modules])"
    )
    out = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True
    ).stdout
    assert out.strip() == "[]"
