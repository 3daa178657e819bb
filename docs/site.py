"""The site's pages that are made from the code: the face, how-tos, every call, every command."""

from __future__ import annotations

import ast
import inspect
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import typer.main
from mkdocs.structure.files import File, Files

import joinery as jn
from joinery.cli.app import PANELS
from joinery.cli.commands import app

ROOT = Path(__file__).parents[1]
CLASSES = ("Fit", "Table", "Look", "Trail", "Rehearsal")
# where a page of the repository stands on the site
MOVED = {
    "CONTRIBUTING.md": "contributing.md",
    "CHANGELOG.md": "changelog.md",
    "docs/reference.md": "calls.md",
}


def on_files(files: Files, config: Any) -> Files:
    """Add the pages that are made to those that are written."""
    pages = {
        "index.md": moved((ROOT / "README.md").read_text("utf-8")),
        "contributing.md": moved((ROOT / "CONTRIBUTING.md").read_text("utf-8")),
        "changelog.md": (ROOT / "CHANGELOG.md").read_text("utf-8"),
        "calls.md": calls(),
        "commands.md": commands(),
        **how_tos(),
    }
    for path, text in pages.items():
        files.append(File.generated(config, path, content=text))
    return files


def moved(text: str) -> str:
    """Return a page of the repository with its links as they stand on the site."""

    def link(match: re.Match[str]) -> str:
        place, _, anchor = match[1].partition("#")
        place = MOVED.get(place, place).removeprefix("docs/")
        if place.startswith("examples/"):
            place = f"how-to/{Path(place).stem}.md"
        return f"]({place}{'#' if anchor else ''}{anchor})"

    return re.sub(r"\]\(([^)\s]+)\)", link, text)


def how_tos() -> dict[str, str]:
    """Return a page for each example: its story, its code, and what it prints."""
    pages, links = {}, []
    for script in sorted((ROOT / "examples").glob("*.py")):
        code = script.read_text("utf-8")
        story = ast.get_docstring(ast.parse(code)) or script.stem
        title, _, rest = story.partition(":")
        body = code.split('"""', 2)[2].strip()
        pages[f"how-to/{script.stem}.md"] = "\n".join(
            [
                f"# {title}",
                "",
                rest.strip().capitalize(),
                "",
                "```python",
                body,
                "```",
                "",
                "It prints:",
                "",
                "```text",
                printed(script),
                "```",
                "",
            ]
        )
        links.append(f"- [{title}]({script.stem}.md): {rest.strip()}")
    return {"how-to/index.md": "\n".join(["# How-tos", "", *links, ""]), **pages}


def printed(script: Path) -> str:
    """Return what an example prints."""
    with tempfile.TemporaryDirectory() as folder:
        done = subprocess.run(
            [sys.executable, str(script)], cwd=folder, capture_output=True, text=True, check=True
        )
    return done.stdout.rstrip()


def calls() -> str:
    """Return the page of every public call, by reference to its docstring."""
    functions = sorted(name for name in jn.__all__ if inspect.isfunction(getattr(jn, name)))
    errors = sorted(
        (name for name in jn.__all__ if isinstance(getattr(jn, name), type)),
        key=lambda name: name in CLASSES,
    )
    parts = ["# Every call", "", "## Functions", ""]
    for name in functions:
        parts += [f"::: {home(name)}", "    options: {heading_level: 3}", ""]
    for name in CLASSES:
        parts += [f"::: {home(name)}", ""]
    parts += ["## Errors and warnings", ""]
    for name in errors:
        if name not in CLASSES:
            parts += [f"::: {home(name)}", "    options: {heading_level: 3, members: false}", ""]
    return "\n".join(parts)


def home(name: str) -> str:
    """Return where something public is written."""
    public = inspect.unwrap(getattr(jn, name))
    return f"{public.__module__}.{public.__qualname__}"


def commands() -> str:
    """Return the page of every command, made from the commands themselves."""
    group: Any = typer.main.get_command(app)
    parts = ["# Every command", ""]
    for panel in PANELS:
        parts += [f"## {panel}", ""]
        for name, command in group.commands.items():
            if command.rich_help_panel == panel:
                parts += command_page(name, command)
    return "\n".join(parts)


def command_page(name: str, command: Any) -> Iterator[str]:
    """Yield the lines about one command: its purpose, its call, its arguments and options."""
    arguments = [p for p in command.params if p.param_type_name == "argument"]
    options = [p for p in command.params if p.param_type_name == "option"]
    yield from (f"### `joinery {name}`", "", command.help or "", "")
    call = " ".join(
        ["joinery", name, *(p.metavar or p.name.upper() for p in arguments), "[OPTIONS]"]
    )
    yield from ("```text", call, "```", "", "| | |", "| --- | --- |")
    for parameter in (*arguments, *options):
        names = ", ".join(f"`{text}`" for text in parameter.opts)
        if parameter.param_type_name == "argument":
            names = f"`{parameter.metavar or parameter.name.upper()}`"
        words = (parameter.help or "").replace("|", "\\|").replace("\n", " ")
        yield f"| {names} | {words} |"
    yield ""
