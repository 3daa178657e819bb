"""How plain the code is: density, comments, names and circles of imports, counted from the source.

Run ``python -m benchmarks.house``; docs/architecture.md has what is wanted."""

from __future__ import annotations

import ast
import re
import sys
from collections import defaultdict
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "joinery"
QUESTIONS = ("Whether", "What", "Which", "How", "Where", "Who", "When")
# names that say what was done to a thing, not what it is
FORBIDDEN = {"found", "own", "whole", "told", "asked", "turned", "said"}
LONGEST = 400  # lines of a module


def main() -> None:
    """Print every count."""
    counts = {
        "lines": 0, "conditional expressions": 0, "comprehensions": 0, "lambdas": 0,
        "own-line comments": 0, "docstrings that are questions": 0, "forbidden names": 0,
        "comprehensions of two loops": 0,
    }  # fmt: skip
    long, files = [], sorted(SOURCE.rglob("*.py"))
    for file in files:
        text = file.read_text("utf-8")
        tree = ast.parse(text)
        lines = text.splitlines()
        counts["lines"] += len(lines)
        counts["own-line comments"] += sum(line.lstrip().startswith("#") for line in lines)
        if len(lines) > LONGEST:
            long.append(f"{file.relative_to(SOURCE)} {len(lines)}")
        for node in ast.walk(tree):
            _count(node, counts)
    thousand = counts["lines"] / 1000
    for name, number in counts.items():
        each = "" if name == "lines" else f"  {number / thousand:6.1f} per 1,000 lines"
        print(f"{name:32}{number:7,}{each}")
    print(f"modules over {LONGEST} lines: {', '.join(long) or 'none'}")
    print(f"circles of rooms: {_circles(files) or 'none'}")


def _count(node: ast.AST, counts: dict[str, int]) -> None:
    """Add what one node of the tree is to the counts."""
    if isinstance(node, ast.IfExp):
        counts["conditional expressions"] += 1
    elif isinstance(node, (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)):
        counts["comprehensions"] += 1
        counts["comprehensions of two loops"] += len(node.generators) > 1
    elif isinstance(node, ast.Lambda):
        counts["lambdas"] += 1
    elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
        counts["forbidden names"] += node.id in FORBIDDEN
    elif isinstance(node, ast.arg):
        counts["forbidden names"] += node.arg in FORBIDDEN
    if isinstance(node, (ast.Module, ast.ClassDef, ast.FunctionDef)):
        first = (ast.get_docstring(node) or "").split(" ")[0].strip(",:")
        counts["docstrings that are questions"] += first in QUESTIONS


def _circles(files: list[Path]) -> list[str]:
    """Return the rooms that import one another, imports for types and inside functions included.

    That there is no circle of modules inside a room either is a test of its own."""
    edges: dict[str, set[str]] = defaultdict(set)
    for file in files:
        room = _room(file.relative_to(SOURCE).with_suffix("").parts)
        for target in re.findall(r"^\s*(?:from|import) joinery\.([\w.]+)", file.read_text(), re.M):
            edges[room].add(_room(tuple(target.split("."))))
    reach = {room: _reached(room, edges) for room in list(edges)}
    pairs = {
        tuple(sorted((a, b))) for a in reach for b in reach[a] if a != b and a in reach.get(b, ())
    }
    return sorted(f"{a} and {b}" for a, b in pairs)


def _room(parts: tuple[str, ...]) -> str:
    """Return the room of a module: its uppermost folder."""
    return parts[0]


def _reached(room: str, edges: dict[str, set[str]]) -> set[str]:
    """Return every room that one imports, over others too."""
    seen: set[str] = set()
    ahead = list(edges.get(room, ()))
    while ahead:
        here = ahead.pop()
        if here not in seen:
            seen.add(here)
            ahead += edges.get(here, ())
    return seen


if __name__ == "__main__":
    sys.exit(main())
