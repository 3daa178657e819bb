"""Every sentence that the library can print, gathered from its source.

``python -m tests.sentences`` writes the list again: read what changed before it is committed."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "joinery"
LIST = Path(__file__).with_name("sentences.txt")
HOLE = "…"  # what is put in when it is printed
LEAST_WORDS = 3
CODE = re.compile(r"</?[a-z]|\\[a-z(]|^[A-Z]+ |=\"|[{};]$|:$|^\s*(import|from|return|with) |\(_")


def text_of(node: ast.AST) -> str | None:
    """Return the text of a literal, with a hole for each value that is put in."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        pieces = [v.value if isinstance(v, ast.Constant) else HOLE for v in node.values]
        return "".join(map(str, pieces))
    return None


def sentences(source: str) -> Iterator[str]:
    """Yield the literals of a module that people read, in their order."""
    tree = ast.parse(source)
    inside: set[ast.AST] = set()
    found = []
    for node in ast.walk(tree):
        if isinstance(node, (ast.Module, ast.ClassDef, ast.FunctionDef)):
            inside |= {n.value for n in node.body[:1] if isinstance(n, ast.Expr)}  # docstrings
        if isinstance(node, ast.JoinedStr):
            inside |= set(node.values)
        text = text_of(node)
        if text is not None and node not in inside and _is_read(text):
            found.append((node.lineno, node.col_offset, text.strip()))
    return (text for _, _, text in sorted(found))


def _is_read(text: str) -> bool:
    if "\n" in text.strip() or CODE.search(text):
        return False
    return len(re.findall(r"[A-Za-zä-ü]{2,}", text)) >= LEAST_WORDS


def listed() -> str:
    """Return the list as it stands in the file: a heading a module, a line a sentence."""
    parts = []
    for path in sorted(SOURCE.rglob("*.py")):
        lines = dict.fromkeys(sentences(path.read_text("utf-8")))
        if lines:
            parts.append("\n".join([f"# {path.relative_to(SOURCE).as_posix()}", *lines]))
    return "\n\n".join(parts) + "\n"


if __name__ == "__main__":
    LIST.write_text(listed(), "utf-8")
