"""Writes docs/reference.md from the docstrings of everything public; run it when one changes."""

from __future__ import annotations

import inspect
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import joinery as jn
from joinery.support import errors

CLASSES = ("Fit", "Table", "Look", "Trail", "Rehearsal")


def page() -> str:
    """The whole page."""
    parts = [
        "# Every public call",
        "",
        "Made from the docstrings by `python docs/reference.py`.",
        "",
    ]
    for name in sorted(n for n in jn.__all__ if inspect.isfunction(getattr(jn, n))):
        parts += entry(f"jn.{name}", getattr(jn, name))
    for name in CLASSES:
        kind = getattr(jn, name)
        parts += [f"## {name}", "", inspect.cleandoc(kind.__doc__ or ""), ""]
        for method, value in members(kind):
            if isinstance(value, property):
                parts += [f"**`{method}`**: {inspect.cleandoc(value.fget.__doc__ or '')}", ""]
            else:
                parts += entry(f"{name}.{method}", value, "###")
    parts += [
        "## Errors",
        "",
        "```text",
        inspect.cleandoc(errors.__doc__ or ""),
        "```",
        "",
    ]
    return "\n".join(parts)


def members(kind: type) -> Iterator[tuple[str, Any]]:
    """Public properties and methods in the order they are written."""
    for name, value in vars(kind).items():
        value = getattr(value, "func", value) if hasattr(value, "attrname") else value
        if (
            not name.startswith("_")
            and (isinstance(value, property) or inspect.isfunction(value))
            and value.__doc__
        ):
            yield name, value


def entry(name: str, call: Any, level: str = "##") -> list[str]:
    """One call: its signature and its docstring as it stands."""
    signature = re.sub(r"(: |-> )'([^']*)'", r"\1\2", str(inspect.signature(call)))
    return [
        f"{level} {name}",
        "",
        "```text",
        f"{name}{signature}",
        "",
        inspect.cleandoc(call.__doc__ or ""),
        "```",
        "",
    ]


if __name__ == "__main__":
    Path(__file__).with_name("reference.md").write_text(page(), "utf-8")
